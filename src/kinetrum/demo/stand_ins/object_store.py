"""A stand-in for an object store: as much of the S3 protocol as listing and reading takes, over a folder.

`python -m kinetrum.demo.stand_ins.object_store FOLDER PORT` serves each folder below FOLDER as a bucket, on loopback
and to everybody there; with port 0 it takes a free one. The address is printed as the first line.
"""

from __future__ import annotations

import hashlib
import http.server
import re
import sys
from datetime import UTC, datetime
from email.utils import formatdate
from pathlib import Path
from urllib.parse import parse_qs, unquote, urlsplit
from xml.sax.saxutils import escape

_XML = '<?xml version="1.0" encoding="UTF-8"?>'
_NAMESPACE = "http://s3.amazonaws.com/doc/2006-03-01/"


class _Requests(http.server.BaseHTTPRequestHandler):
    """Answers one connection's requests; `root` is the folder of buckets."""

    protocol_version = "HTTP/1.1"
    root: Path

    def log_message(self, *_: object) -> None:
        """Say nothing of what was asked."""

    def do_GET(self) -> None:
        """List a bucket, or send an object."""
        self._answer(send_body=True)

    def do_HEAD(self) -> None:
        """Tell of an object."""
        self._answer(send_body=False)

    def _answer(self, send_body: bool) -> None:
        parts = urlsplit(self.path)
        bucket, _, key = unquote(parts.path).lstrip("/").partition("/")
        folder = self.root / bucket
        if not re.fullmatch(r"[a-z0-9-]+", bucket) or not folder.is_dir():
            self._send(404, self._error("NoSuchBucket", bucket), "application/xml", {}, send_body)
        elif not key:
            query = parse_qs(parts.query, keep_blank_values=True)
            listing = self._listing(bucket, folder, query.get("prefix", [""])[0])
            self._send(200, listing, "application/xml", {}, send_body)
        else:
            self._object(folder, key, send_body)

    def _listing(self, bucket: str, folder: Path, prefix: str) -> bytes:
        keys = []
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            key = path.relative_to(folder).as_posix()
            if key.startswith(prefix):
                modified = datetime.fromtimestamp(path.stat().st_mtime, UTC).strftime("%Y-%m-%dT%H:%M:%S.000Z")
                keys.append(
                    f"<Contents><Key>{escape(key)}</Key><LastModified>{modified}</LastModified>"
                    f"<ETag>&quot;{_tag(path)}&quot;</ETag><Size>{path.stat().st_size}</Size>"
                    "<StorageClass>STANDARD</StorageClass></Contents>"
                )
        text = (
            f'{_XML}<ListBucketResult xmlns="{_NAMESPACE}"><Name>{bucket}</Name><Prefix>{escape(prefix)}</Prefix>'
            f"<KeyCount>{len(keys)}</KeyCount><MaxKeys>1000000</MaxKeys><IsTruncated>false</IsTruncated>"
            f"{''.join(keys)}</ListBucketResult>"
        )
        return text.encode()

    def _object(self, folder: Path, key: str, send_body: bool) -> None:
        path = (folder / key).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            self._send(404, self._error("NoSuchKey", key), "application/xml", {}, send_body)
            return
        content = path.read_bytes()
        status = 200
        headers = {"ETag": f'"{_tag(path)}"', "Last-Modified": formatdate(path.stat().st_mtime, usegmt=True)}
        byte_range = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
        if byte_range and int(byte_range[1]) < len(content):
            first, last = int(byte_range[1]), min(int(byte_range[2] or len(content) - 1), len(content) - 1)
            headers["Content-Range"] = f"bytes {first}-{last}/{len(content)}"
            status, content = 206, content[first : last + 1]
        self._send(status, content, "application/octet-stream", headers, send_body)

    def _error(self, code: str, what: str) -> bytes:
        return f"{_XML}<Error><Code>{code}</Code><Message>{escape(what)}</Message></Error>".encode()

    def _send(self, status: int, body: bytes, media: str, headers: dict[str, str], send_body: bool) -> None:
        self.send_response(status)
        for name, value in {**headers, "Content-Type": media, "Content-Length": str(len(body))}.items():
            self.send_header(name, value)
        self.end_headers()
        if send_body:
            self.wfile.write(body)


def _tag(path: Path) -> str:
    return hashlib.md5(path.read_bytes(), usedforsecurity=False).hexdigest()


def serve(root: Path, port: int) -> http.server.ThreadingHTTPServer:
    """Return a server for the buckets below a folder, bound to loopback; `serve_forever` starts it."""
    requests = type("Requests", (_Requests,), {"root": root})
    return http.server.ThreadingHTTPServer(("127.0.0.1", port), requests)


def main() -> None:
    """Run as a process."""
    server = serve(Path(sys.argv[1]), int(sys.argv[2]))
    print(f"http://127.0.0.1:{server.server_address[1]}", flush=True)  # noqa: T201
    server.serve_forever()


if __name__ == "__main__":
    main()
