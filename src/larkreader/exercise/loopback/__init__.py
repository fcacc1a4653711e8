"""Send a known pattern, and compare what returns with it. It may use the ports and the payload."""
