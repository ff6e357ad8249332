"""From the camera's motion to a calmer path, and what that path costs."""
