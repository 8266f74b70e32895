"""What is handed over: titles and numbers, file names, tags, the manifest and the package as one file."""
