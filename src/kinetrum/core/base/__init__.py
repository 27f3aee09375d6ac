"""What every other part needs: values, references, ids, errors, goals, permissions; no heavy package."""
