"""What every request meets: access, limits, headers, errors, bodies."""
