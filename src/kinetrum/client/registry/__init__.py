"""The registry from Python: models, versions, reviews, evidence, deployment."""
