"""Files of strangers, read by a process with limits."""
