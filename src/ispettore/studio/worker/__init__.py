"""A worker: the process, what it does for each kind of work, and what runs in its children."""
