"""Runs as they were recorded: read, described, put away, written out."""
