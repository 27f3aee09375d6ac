"""nginx from Debian before two processes of the service, as docs/how-to/nginx.conf sets it up."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import trustme

from tests.support.world import Instance, service_process

_NGINX = shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
_DOCUMENTED = Path(__file__).parents[2] / "docs" / "how-to" / "nginx.conf"
# What surrounds the documented file where nginx is nobody's daemon and writes nowhere but into its folder.
_AROUND = """\
{user}
daemon off;
worker_processes 1;
pid {folder}/pid;
error_log {folder}/errors;
events {{}}
http {{
    log_format tests '$upstream_addr $status $request';
    access_log {folder}/requests tests;
    client_body_temp_path {folder}/bodies;
    proxy_temp_path {folder}/proxied;
    fastcgi_temp_path {folder}/other;
    uwsgi_temp_path {folder}/other;
    scgi_temp_path {folder}/other;
    include {folder}/documented;
}}
"""


@dataclass(frozen=True)
class Behind:
    """The address that people open, the authority to trust, and where nginx writes what it passed on to whom."""

    url: str
    ca: Path
    requests: Path

    def passed(self) -> list[list[str]]:
        """Return what was asked: (which service, status, method, path) of each request."""
        return [line.split()[:4] for line in self.requests.read_text().splitlines()]


def _free_port() -> int:
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        return int(listening.getsockname()[1])


@contextlib.contextmanager
def behind_nginx(instance: Instance, folder: Path, body_limit: str = "1m") -> Iterator[Behind]:
    """Start two processes of the service and nginx before them; `body_limit` is nginx's own unless said otherwise."""
    assert _NGINX, "nginx is not installed; scripts/setup test installs it"
    port = _free_port()
    url = f"https://127.0.0.1:{port}/kinetrum"
    authority = trustme.CA()
    authority.cert_pem.write_to_path(folder / "ca.pem")
    issued = authority.issue_cert("127.0.0.1")
    issued.private_key_and_cert_chain_pem.write_to_path(folder / "both.pem")
    settings = {"KINETRUM_PUBLIC_ADDRESS": url, "KINETRUM_PROXIES": "127.0.0.1"}
    with service_process(instance, **settings) as (one, _), service_process(instance, **settings) as (other, _):
        documented = _DOCUMENTED.read_text()
        for said, here in (
            ("127.0.0.1:7373", one.removeprefix("http://")),
            ("127.0.0.1:7374", other.removeprefix("http://")),
            ("listen 443 ssl", f"listen 127.0.0.1:{port} ssl"),
            ("/etc/ssl/tools.example.pem", str(folder / "both.pem")),
            ("/etc/ssl/private/tools.example.key", str(folder / "both.pem")),
            ("client_max_body_size 64m", f"client_max_body_size {body_limit}"),
        ):
            assert documented.count(said) == 1, said
            documented = documented.replace(said, here)
        # Started by root it would become nobody, who may not write here.
        user = "user root;" if os.getuid() == 0 else ""
        (folder / "documented").write_text(documented)
        (folder / "nginx.conf").write_text(_AROUND.format(folder=folder, user=user))
        command = [_NGINX, "-p", str(folder), "-c", str(folder / "nginx.conf"), "-e", str(folder / "errors")]
        nginx = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            _wait_until_it_listens(port, folder / "errors")
            yield Behind(url, folder / "ca.pem", folder / "requests")
        finally:
            nginx.terminate()
            nginx.wait(20)


def _wait_until_it_listens(port: int, errors: Path) -> None:
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise AssertionError(errors.read_text())
