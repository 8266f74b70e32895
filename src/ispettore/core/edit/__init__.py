"""Edits of a recording as a layer over its file: what is left out, what stands there instead, and where every moment went."""
