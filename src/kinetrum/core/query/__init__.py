"""Questions about runs: one condition, read and typed."""
