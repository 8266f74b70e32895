"""Rehearsing drafts in processes that are kept warm."""
