"""Who may use this installation: people with accounts, how they sign in, sessions, tokens; and the trail as it is read."""
