"""Tables of results, as the terminal, a notebook and the report show them. It may use the text."""
