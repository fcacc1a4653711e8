"""Results for people: tables for the terminal, and figures."""
