"""Frames of reference, similarity transforms, lattices and the warp chain."""
