"""The spool: what this machine recorded and no service has acknowledged yet."""
