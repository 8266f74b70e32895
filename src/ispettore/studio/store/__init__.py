"""Where bytes are kept."""
