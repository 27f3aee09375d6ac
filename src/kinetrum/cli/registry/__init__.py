"""Commands for models, versions, gates and stages."""
