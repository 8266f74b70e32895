"""The web: routes, server-sent events, static files. Nothing is decided here."""
