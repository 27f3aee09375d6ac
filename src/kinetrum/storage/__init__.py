"""Records in MariaDB and bytes on disk: the only user of the database driver and of blob files."""
