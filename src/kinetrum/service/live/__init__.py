"""Live changes and feeds."""
