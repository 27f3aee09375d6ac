"""Commands that show and describe one run."""
