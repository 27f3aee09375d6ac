"""A stand-in for a provider at whom people sign in: as much of OpenID Connect as signing in takes.

`python -m kinetrum.demo.stand_ins.sign_in_provider PEOPLE PORT` serves on loopback; with port 0 it takes a free one.
PEOPLE is a file of JSON with a list of claims:
`[{"sub": "7", "preferred_username": "mara", "name": "…", "groups": ["growers"]}]`.
Whoever comes chooses who they are, by a click: it proves nothing, and is for demos and tests. The address is printed as
the first line. The client is `kinetrum` with the secret `stand-in`.
"""

from __future__ import annotations

import base64
import hashlib
import html
import http.server
import json
import secrets
import sys
import time
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

from joserfc import jwt
from joserfc.jwk import RSAKey

from kinetrum.demo.stand_ins.starting import CLIENT, SECRET

_CODE_S, _TOKEN_S = 60, 300


class Provider(http.server.ThreadingHTTPServer):
    """The provider: its key, its people, and the codes that it gave out."""

    def __init__(self, port: int, people: Path) -> None:
        super().__init__(("127.0.0.1", port), _Requests)
        self.people = people
        self.key = RSAKey.generate_key(2048, {"kid": secrets.token_hex(4), "use": "sig", "alg": "RS256"})
        self.codes: dict[str, dict[str, Any]] = {}

    @property
    def issuer(self) -> str:
        """Its address."""
        return f"http://127.0.0.1:{self.server_address[1]}"


class _Requests(http.server.BaseHTTPRequestHandler):
    """Answers one connection's requests."""

    server: Provider

    def log_message(self, *_: object) -> None:
        """Say nothing of what was asked."""

    def do_GET(self) -> None:
        """Tell of itself, show who there is, or lead back with a code."""
        parts = urlsplit(self.path)
        asked = {key: values[0] for key, values in parse_qs(parts.query).items()}
        if parts.path == "/.well-known/openid-configuration":
            self._answer_json(self._about())
        elif parts.path == "/keys":
            self._answer_json({"keys": [self.server.key.as_dict(private=False)]})
        elif parts.path == "/authorize" and "as" in asked:
            self._lead_back(asked)
        elif parts.path == "/authorize":
            self._show_people(asked)
        else:
            self.send_error(404)

    def do_POST(self) -> None:
        """Give an ID token for a code, once, to the client whose code it is, with the verifier that fits."""
        body = parse_qs(self.rfile.read(int(self.headers.get("Content-Length", 0))).decode())
        given = {key: values[0] for key, values in body.items()}
        expected = "Basic " + base64.b64encode(f"{CLIENT}:{SECRET}".encode()).decode()
        attempt = self.server.codes.pop(given.get("code", ""), None)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(given.get("code_verifier", "").encode()).digest())
        holds = (
            self.headers.get("Authorization") == expected
            and attempt is not None
            and attempt["until"] > time.time()
            and attempt["code_challenge"] == challenge.decode().rstrip("=")
            and attempt["redirect_uri"] == given.get("redirect_uri")
        )
        if attempt is None or not holds:
            self._answer_json({"error": "invalid_grant"}, 400)
            return
        now = int(time.time())
        told = {"iss": self.server.issuer, "aud": CLIENT, "iat": now, "exp": now + _TOKEN_S}
        token = jwt.encode(
            {"alg": "RS256", "kid": self.server.key.kid},
            {**attempt["claims"], **told, "nonce": attempt["nonce"]},
            self.server.key,
        )
        self._answer_json({"access_token": secrets.token_hex(8), "token_type": "Bearer", "id_token": token})

    def _about(self) -> dict[str, object]:
        issuer = self.server.issuer
        return {
            "issuer": issuer,
            "authorization_endpoint": f"{issuer}/authorize",
            "token_endpoint": f"{issuer}/token",
            "jwks_uri": f"{issuer}/keys",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
            "code_challenge_methods_supported": ["S256"],
        }

    def _show_people(self, asked: dict[str, str]) -> None:
        links = ""
        for one in json.loads(self.server.people.read_text()):
            address = html.escape(f"/authorize?{urlencode({**asked, 'as': one['sub']})}")
            links += f'<li><a href="{address}">{html.escape(one["name"])}</a>'
        page = f"<!doctype html><title>Who are you?</title><h1>Who are you?</h1><ul>{links}</ul>"
        self._answer(page.encode(), "text/html; charset=utf-8")

    def _lead_back(self, asked: dict[str, str]) -> None:
        people = {one["sub"]: one for one in json.loads(self.server.people.read_text())}
        code = secrets.token_urlsafe(24)
        self.server.codes[code] = {**asked, "claims": people[asked["as"]], "until": time.time() + _CODE_S}
        self.send_response(302)
        self.send_header("Location", f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state']})}")
        self.end_headers()

    def _answer_json(self, body: dict[str, object], status: int = 200) -> None:
        self._answer(json.dumps(body).encode(), "application/json", status)

    def _answer(self, body: bytes, kind: str, status: int = 200) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


def main(arguments: list[str]) -> None:
    """Serve until told to stop."""
    provider = Provider(int(arguments[1]), Path(arguments[0]))
    print(provider.issuer, flush=True)  # noqa: T201
    provider.serve_forever()


if __name__ == "__main__":
    main(sys.argv[1:])
