"""What came from what."""
