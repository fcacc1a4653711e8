"""Test equipment, for users too: checks that any port must pass."""
