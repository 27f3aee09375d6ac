"""The keeper of an instance: starts MariaDB and the service, restarts the service, stops both.

`python -m kinetrum.instance.keeper FOLDER PORT` runs until SIGTERM. The lock file is held by the keeper
and inherited by what it starts, so a second instance on the same folder is refused even after a crash
of the keeper, as long as the old server still runs.
"""

from __future__ import annotations

import fcntl
import json
import logging
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from kinetrum.core.base.errors import KinetrumError
from kinetrum.instance.mariadb import OWNER, SERVICE, PrivateServer
from kinetrum.instance.prepare import prepare
from kinetrum.instance.settings import Home, write_private

ANOTHER_RUNS = 3
_PORTS_TRIED = 50
log = logging.getLogger("kinetrum.keeper")


class Keeper:
    """One running instance."""

    def __init__(self, home: Home, port: int) -> None:
        self.home, self.port = home, port
        self.server = PrivateServer(home)
        self.service: subprocess.Popen[bytes] | None = None
        self.told_to_stop = False

    def run(self) -> int:
        """Start everything, watch over it, stop it in order; returns an exit status."""
        self.home.prepare()
        lock = os.open(self.home.lock, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            log.warning("something of an instance runs on %s already", self.home.folder)
            return ANOTHER_RUNS
        os.truncate(lock, 0)
        os.write(lock, str(os.getpid()).encode())
        self._listen()
        try:
            self._start(lock)
            self._watch(lock)
        except KinetrumError as error:
            log.error("%s", error)
            self._tell({"error": str(error)})
            return 1
        except Exception:
            log.exception("the instance did not start")
            return 1
        finally:
            self._stop_service()
            self.server.stop()
            if "url" in (self.home.read_state() or {}):
                self.home.state.unlink(missing_ok=True)
        return 0

    def _listen(self) -> None:
        """End on SIGTERM and SIGINT, also where whoever started this had them blocked."""

        def stop(*_: object) -> None:
            # No lock is taken here: the line that was interrupted might hold it.
            self.told_to_stop = True

        numbers = (signal.SIGTERM, signal.SIGINT)
        for number in numbers:
            signal.signal(number, stop)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, numbers)

    def _tell(self, state: dict[str, object]) -> None:
        write_private(self.home.state, json.dumps(state))

    def _start(self, lock: int) -> None:
        self.server.start(pass_fds=(lock,))
        prepare(self.server.address(OWNER), SERVICE, self.home.first_password, self.home.token)
        wanted, last = self.port, self.port + _PORTS_TRIED
        while True:
            url = self._start_service(lock)
            if url is not None:
                break
            if self.port == 0 or self.port >= last:
                raise KinetrumError(f"No free port was found from {wanted} on; {self.home.log} says more.")
            self.port += 1
        self._tell({"url": url, "pid": os.getpid(), "wanted_port": wanted, "port": int(url.rpartition(":")[2])})

    def _start_service(self, lock: int) -> str | None:
        environment = os.environ | {
            "KINETRUM_DATABASE": self.server.url(SERVICE),
            "KINETRUM_STORE": str(self.home.store),
            "KINETRUM_HOST": "127.0.0.1",
            "KINETRUM_PORT": str(self.port),
            "KINETRUM_SECRETS_KEY": os.environ.get("KINETRUM_SECRETS_KEY") or self.home.secrets_key(),
        }
        with self.home.log.open("ab") as log_file:
            self.service = subprocess.Popen(
                [sys.executable, "-m", "kinetrum.service.main"],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=log_file,
                start_new_session=True,
                pass_fds=(lock,),
                env=environment,
            )
        if self.service.stdout is None:
            return None
        line = self.service.stdout.readline()
        return json.loads(line)["url"] if line else None

    def _watch(self, lock: int) -> None:
        """Start again what ends, until told to stop; one that dies while it starts is tried again like any other."""
        while not self.told_to_stop:
            try:
                self._mend(lock)
            except (KinetrumError, OSError) as error:
                log.error("%s Trying again.", error)
                time.sleep(1)
            time.sleep(0.2)

    def _mend(self, lock: int) -> None:
        if self.server.process is None or self.server.process.poll() is not None:
            log.error("MariaDB ended; starting it again")
            self._stop_service()
            self.server.start(pass_fds=(lock,))
        if self.service is None or self.service.poll() is not None:
            log.error("the service ended; starting it again")
            self.port = int((self.home.read_state() or {}).get("port", self.port))
            self._start_service(lock)

    def _stop_service(self) -> None:
        if self.service is None or self.service.poll() is not None:
            return
        self.service.terminate()
        try:
            self.service.wait(10)
        except subprocess.TimeoutExpired:
            self.service.kill()
            self.service.wait()


def main() -> int:
    """Run a keeper as a process."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s", stream=sys.stderr)
    return Keeper(Home(Path(sys.argv[1])), int(sys.argv[2])).run()


if __name__ == "__main__":
    sys.exit(main())
