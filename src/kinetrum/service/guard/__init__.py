"""What protects the service from whoever sends it requests."""
