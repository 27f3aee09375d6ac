"""Types of the HTTP interface."""
