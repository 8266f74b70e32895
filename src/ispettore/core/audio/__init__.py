"""Reading and writing open formats in blocks; file facts. Knows nothing of what the samples are for."""
