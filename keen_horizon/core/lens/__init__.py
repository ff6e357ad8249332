"""What a lens does to straight rays, and how that is found out."""
