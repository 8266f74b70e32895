"""Ispettore: an inspection bench for recorded voice."""
