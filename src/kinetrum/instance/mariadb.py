"""A private MariaDB server: made, started, stopped. It listens on loopback only."""

from __future__ import annotations

import getpass
import os
import shutil
import signal
import socket
import subprocess
import time
from pathlib import Path

import pymysql

from kinetrum.core.base.errors import Unavailable
from kinetrum.instance.settings import Home, write_private
from kinetrum.storage.db.database import DatabaseAddress

DATABASE = "kinetrum"
OWNER, SERVICE = "kinetrum_owner", "kinetrum_service"
_START_S = 60.0
_STOP_S = 30.0


def _tool(name: str) -> str:
    path = shutil.which(name) or shutil.which(name, path="/usr/sbin:/usr/local/sbin")
    if path is None:
        raise Unavailable(
            f"{name} is not on this machine; install MariaDB (on Debian: apt-get install mariadb-server-core "
            "mariadb-client-core) and try again."
        )
    return path


def free_port() -> int:
    """Return a port of loopback that nothing listens on now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _pool_mb() -> int:
    memory_mb = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2**20
    return max(128, min(2048, memory_mb // 8))


class PrivateServer:
    """One MariaDB under an instance's folder."""

    def __init__(self, home: Home) -> None:
        self.home = home
        self.port = free_port()
        self.process: subprocess.Popen[bytes] | None = None

    def _write_config(self) -> Path:
        # Plenty for one team; the socket stands inside the data folder, where a long path cannot harm:
        # a relative path is taken from there. A server deletes what others left in its folder for temporary
        # tables when it starts, so each has a folder of its own.
        temporary = self.home.folder / "temporary"
        temporary.mkdir(mode=0o700, exist_ok=True)
        config = f"""[mariadbd]
datadir={self.home.database}
tmpdir={temporary}
socket=server.sock
pid-file=server.pid
port={self.port}
bind-address=127.0.0.1
skip-name-resolve
local-infile=0
secure-file-priv={self.home.folder}
character-set-server=utf8mb4
collation-server=utf8mb4_nopad_bin
sql-mode=STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION
transaction-isolation=READ-COMMITTED
default-time-zone=+00:00
innodb-flush-log-at-trx-commit=1
innodb-flush-method=O_DIRECT
innodb-buffer-pool-size={_pool_mb()}M
innodb-log-file-size=512M
innodb-lock-wait-timeout=10
max-allowed-packet=64M
max-connections=300
"""
        path = self.home.folder / "mariadb.cnf"
        write_private(path, config)
        return path

    def _initialise(self, config: Path) -> None:
        part = self.home.database.with_name("database.part")
        shutil.rmtree(part, ignore_errors=True)
        user = getpass.getuser()
        made = subprocess.run(
            [
                _tool("mariadb-install-db"),
                f"--defaults-file={config}",
                f"--datadir={part}",
                f"--user={user}",
                "--auth-root-authentication-method=socket",
                f"--auth-root-socket-user={user}",
                "--skip-test-db",
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        if made.returncode:
            raise Unavailable(f"MariaDB could not make its data folder: {(made.stderr or made.stdout)[-600:]}")
        part.rename(self.home.database)

    def _accounts(self) -> Path:
        """Write the statements that the server runs at its start: database and accounts, made once."""
        owner, service = self.home.secret("database_owner"), self.home.secret("database_service")
        path = self.home.folder / "accounts.sql"
        statements = [f"CREATE DATABASE IF NOT EXISTS {DATABASE}"]
        for user, password in ((OWNER, owner), (SERVICE, service)):
            statements.append(f"CREATE USER IF NOT EXISTS {user}@'127.0.0.1' IDENTIFIED BY '{password}'")
        statements.append(f"GRANT ALL ON {DATABASE}.* TO {OWNER}@'127.0.0.1' WITH GRANT OPTION")
        write_private(path, ";\n".join(statements) + ";\n")
        return path

    def start(self, pass_fds: tuple[int, ...] = ()) -> None:
        """Start the server and wait until it answers; makes the data folder the first time."""
        config = self._write_config()
        if not self.home.database.exists():
            self._initialise(config)
        accounts = self._accounts()
        with self.home.log.open("ab") as log:
            self.process = subprocess.Popen(
                [
                    _tool("mariadbd"),
                    f"--defaults-file={config}",
                    f"--user={getpass.getuser()}",
                    f"--init-file={accounts}",
                ],
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                pass_fds=pass_fds,
            )
        give_up = time.monotonic() + _START_S
        while time.monotonic() < give_up:
            if self.process.poll() is not None:
                raise Unavailable(f"MariaDB ended at once; {self.home.log} says why.")
            try:
                pymysql.connect(
                    host="127.0.0.1",
                    port=self.port,
                    user=OWNER,
                    database=DATABASE,
                    password=self.home.secret("database_owner"),
                ).close()
            except pymysql.MySQLError:
                time.sleep(0.05)
            else:
                return
        raise Unavailable(f"MariaDB did not answer within {_START_S:.0f} s; {self.home.log} says more.")

    def stop(self) -> None:
        """Ask the server to end and wait for it."""
        if self.process is None or self.process.poll() is not None:
            return
        self.process.send_signal(signal.SIGTERM)
        try:
            self.process.wait(_STOP_S)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()

    def address(self, user: str) -> DatabaseAddress:
        """Return where and how an account connects."""
        secret = "database_owner" if user == OWNER else "database_service"
        return DatabaseAddress("127.0.0.1", self.port, user, self.home.secret(secret), DATABASE)

    def url(self, user: str) -> str:
        """Return the address of an account as a URL."""
        at = self.address(user)
        return f"mariadb://{at.user}:{at.password}@{at.host}:{at.port}/{at.name}"
