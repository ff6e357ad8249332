"""A make-believe camera: painted places, moves and shake whose truth is known."""
