"""What changed, for whoever follows."""
