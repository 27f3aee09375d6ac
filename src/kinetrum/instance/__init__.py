"""A private instance: its own MariaDB on loopback, its folders, and the service on top."""
