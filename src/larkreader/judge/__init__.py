"""Is it right, and if not, why: findings, never exceptions over bad data."""
