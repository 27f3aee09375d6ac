"""What a person can do: one transaction each, and the only place where permission is asked."""
