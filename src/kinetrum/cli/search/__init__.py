"""Commands that find runs."""
