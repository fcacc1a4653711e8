"""A report of a reading for the colleague who was not there: one HTML page, or Markdown."""
