"""Commands that compare runs."""
