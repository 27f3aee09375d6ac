"""Commands that record runs."""
