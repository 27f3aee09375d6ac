"""Metric points as columns: binary forms, merging, statistics, reduction for charts."""
