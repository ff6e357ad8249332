"""Scores: shake, stability, distortion, picture kept."""
