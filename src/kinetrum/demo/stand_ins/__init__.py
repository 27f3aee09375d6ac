"""Stand-ins that run beside the demo: an object store, and a provider at whom people sign in."""
