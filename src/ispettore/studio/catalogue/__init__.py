"""Productions, recordings and what was made of them: the services that the pages call."""
