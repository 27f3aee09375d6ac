"""Archives between instances."""
