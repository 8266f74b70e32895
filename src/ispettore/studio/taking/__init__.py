"""Takes that are recorded here: kept piece by piece while somebody reads, heard as they come, and made recordings."""
