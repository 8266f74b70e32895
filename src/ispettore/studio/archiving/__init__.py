"""The record of a production, and its archive: made here, imported elsewhere."""
