"""Quantities, limits, specifications, verdicts. Changing a specification never needs a new measurement."""
