"""Text for terminals and files: consoles, dumps, how numbers and invisible characters are written."""
