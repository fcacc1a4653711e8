"""What was measured: level changes, characters and bytes, in columns."""
