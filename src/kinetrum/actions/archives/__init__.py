"""Archives out and in."""
