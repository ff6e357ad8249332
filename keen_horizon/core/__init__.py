"""The computation. Knows nothing of the web, the database or the job queue."""
