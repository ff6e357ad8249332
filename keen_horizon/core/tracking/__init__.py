"""Features followed through the frames: tracks, cuts, blur, what moves together."""
