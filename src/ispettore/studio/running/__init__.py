"""Starting everything on one machine: database, web, workers, demo data."""
