"""A script as anybody may have it, which knows nothing of the service."""
