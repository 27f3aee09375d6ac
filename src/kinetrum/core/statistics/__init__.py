"""Statistics: noise, effects, trade-offs, replicates."""
