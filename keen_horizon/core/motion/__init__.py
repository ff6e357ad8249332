"""From pixels to marks, and from marks to the camera's motion."""
