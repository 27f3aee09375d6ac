"""Models, evidence, stages, fetches."""
