"""From measured to meaning: pure functions, columns to columns."""
