"""Sampling pixels through a warp."""
