"""Announcing: what a receiver of a webhook is told, how that is signed, where it may go, and when it is tried again."""
