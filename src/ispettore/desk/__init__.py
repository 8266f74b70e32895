"""The intake desk: a small service that stands in for an outlet. It takes packages, checks them with a meter of its own, and
answers.

Nothing here uses a line of the rest of this program (the contract in pyproject.toml proves it), so that what it reads is a second
opinion.
"""
