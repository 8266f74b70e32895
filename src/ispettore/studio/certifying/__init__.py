"""Certificates as people handle them: listed, looked at, printed, ended, issued again, for productions; and the keys that seal
them."""
