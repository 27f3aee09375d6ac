"""Routes for models and their versions."""
