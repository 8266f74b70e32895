"""Delivering a production: how its files are named and tagged, making them, and handing them over as one package."""
