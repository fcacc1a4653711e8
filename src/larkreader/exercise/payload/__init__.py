"""What is sent: patterns, sequences, and what a user types."""
