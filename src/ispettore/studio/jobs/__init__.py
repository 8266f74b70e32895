"""Background work: asked for in a transaction, queued when it commits, tried by workers, and tried again: the machinery, whatever
the work."""
