"""Archives: what stands in them, checked when read."""
