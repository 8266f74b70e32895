"""How the installation itself is: whether everything it needs is there, what waits and runs, what failed, and figures of it."""
