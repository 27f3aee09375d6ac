"""Runs side by side, and what moves a value."""
