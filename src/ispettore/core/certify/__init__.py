"""The certificate, its seal, and checking both against a file."""
