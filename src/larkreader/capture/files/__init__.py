"""File formats of captures, one module each: a reader and, where it makes sense, a writer."""
