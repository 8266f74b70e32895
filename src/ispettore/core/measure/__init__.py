"""Meters: one file each, to be held beside the standard. They know neither limits nor steps."""
