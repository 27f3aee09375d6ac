"""The Python client: recording through a spool, reading and the registry over HTTP."""
