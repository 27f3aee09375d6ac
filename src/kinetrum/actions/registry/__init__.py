"""Models, versions, review, evidence, gates, stages, fetching."""
