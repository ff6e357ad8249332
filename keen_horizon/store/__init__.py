"""What is kept: rows in PostgreSQL, files in the media vault."""
