"""How the service is found and called."""
