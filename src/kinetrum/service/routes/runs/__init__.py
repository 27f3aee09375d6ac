"""Routes for experiments and runs."""
