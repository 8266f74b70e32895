"""The take check: input level and room before a recording starts."""
