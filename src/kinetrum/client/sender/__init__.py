"""The sender: a process that delivers the spool, one for all programs of a person on a machine."""
