"""Starting everything on one machine: private database, web server, workers, tests."""
