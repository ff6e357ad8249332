"""The demo shoot: Brindle Quay, rendered on this machine."""
