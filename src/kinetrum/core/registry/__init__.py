"""Rules of the registry: reviews, ladders, stages, promotion and the ways back."""
