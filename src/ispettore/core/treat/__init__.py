"""Steps (one file each), the treatment that orders them, the runner, and touch."""
