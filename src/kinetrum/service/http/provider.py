"""The provider at which people sign in: OpenID Connect, authorisation code with PKCE.

Standards: OpenID Connect Core 1.0 and Discovery 1.0, RFC 6749 (OAuth 2.0), RFC 7636 (PKCE), RFC 7519 (JWT).
"""

from __future__ import annotations

import ipaddress
import secrets
import threading
import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import httpx
from authlib.oauth2.rfc6749.parameters import prepare_grant_uri
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from kinetrum.core.access.claims import Claims, read_claims
from kinetrum.core.base.errors import NotSignedIn, Unavailable
from kinetrum.service.settings import ProviderSettings

SCOPE = "openid profile email groups"
_ALGORITHMS = ["RS256", "ES256", "PS256"]
_TIMEOUT_S = 10.0
# How long what a provider says of itself holds; its keys are asked for anew where one is not among them.
_HOLDS_S = 3_600.0
_LEEWAY_S = 60


@dataclass(frozen=True)
class Attempt:
    """What one attempt to sign in has to come back with, kept by the browser that began it."""

    state: str
    nonce: str
    verifier: str

    @classmethod
    def begin(cls) -> Attempt:
        """Begin an attempt that nobody can guess."""
        return cls(secrets.token_urlsafe(24), secrets.token_urlsafe(24), secrets.token_urlsafe(48))


class Provider:
    """The provider that the settings name. Safe in threads."""

    def __init__(self, settings: ProviderSettings) -> None:
        self.settings = settings
        self._lock = threading.Lock()
        self._about: dict[str, Any] = {}
        self._keys: KeySet | None = None
        self._known_at = 0.0

    def address_of(self, attempt: Attempt, comes_back_to: str) -> str:
        """Return where the browser goes to sign in."""
        about = self._discover()
        address: str = prepare_grant_uri(
            _safe(about["authorization_endpoint"]),
            client_id=self.settings.client,
            response_type="code",
            redirect_uri=comes_back_to,
            scope=SCOPE,
            state=attempt.state,
            nonce=attempt.nonce,
            code_challenge=create_s256_code_challenge(attempt.verifier),
            code_challenge_method="S256",
        )
        return address

    def claims_of(self, code: str, attempt: Attempt, comes_back_to: str) -> Claims:
        """Return who came back with a code; raises NotSignedIn where anything of it does not hold."""
        token = self._exchange(code, attempt, comes_back_to)
        told = self._verified(token, attempt)
        return read_claims(self.settings.issuer, told, self.settings.name_claim, self.settings.groups_claim)

    def _exchange(self, code: str, attempt: Attempt, comes_back_to: str) -> str:
        answer = self._ask(
            "POST",
            _safe(self._discover()["token_endpoint"]),
            data={
                "grant_type": "authorization_code",
                "code": code,
                "redirect_uri": comes_back_to,
                "code_verifier": attempt.verifier,
            },
            auth=(self.settings.client, self.settings.secret),
        )
        token = answer.get("id_token")
        if not isinstance(token, str):
            raise NotSignedIn("The provider told nobody's identity; sign in again.")
        return token

    def _verified(self, token: str, attempt: Attempt) -> dict[str, Any]:
        """Return the claims of an ID token that the provider signed for us, now, for this attempt."""
        rules = jwt.JWTClaimsRegistry(
            leeway=_LEEWAY_S,
            iss={"essential": True, "value": self.settings.issuer},
            aud={"essential": True, "value": self.settings.client},
            azp={"value": self.settings.client},
            exp={"essential": True},
            sub={"essential": True},
            nonce={"essential": True, "value": attempt.nonce},
        )
        try:
            try:
                decoded = jwt.decode(token, self._key_set(), algorithms=_ALGORITHMS)
            except (JoseError, ValueError):
                # It may have been signed with a key that is newer than those that are known.
                decoded = jwt.decode(token, self._key_set(fresh=True), algorithms=_ALGORITHMS)
            rules.validate(decoded.claims)
            audience = decoded.claims["aud"]
            if isinstance(audience, list) and len(audience) > 1 and "azp" not in decoded.claims:
                raise ValueError("made for several, and not said for whom")
        except (JoseError, ValueError) as error:
            raise NotSignedIn(f"What the provider told is not to be believed ({type(error).__name__}).") from None
        return dict(decoded.claims)

    def _discover(self) -> dict[str, Any]:
        with self._lock:
            if self._about and time.monotonic() - self._known_at < _HOLDS_S:
                return self._about
            issuer = self.settings.issuer
            about = self._ask("GET", f"{issuer.rstrip('/')}/.well-known/openid-configuration")
            if about.get("issuer") != issuer:
                raise Unavailable(f"The provider at {issuer} says that it is {about.get('issuer')!r}.")
            self._about, self._keys, self._known_at = about, None, time.monotonic()
            return about

    def _key_set(self, fresh: bool = False) -> KeySet:
        about = self._discover()
        with self._lock:
            if self._keys is None or fresh:
                self._keys = KeySet.import_key_set(self._ask("GET", _safe(about["jwks_uri"])))  # type: ignore[arg-type]
            return self._keys

    def _ask(self, method: str, address: str, **options: Any) -> dict[str, Any]:
        try:
            answer = httpx.request(method, address, timeout=_TIMEOUT_S, follow_redirects=False, **options)
            body = answer.json()
        except (httpx.HTTPError, ValueError) as error:
            raise Unavailable(
                f"The provider at {self.settings.issuer} does not answer ({type(error).__name__})."
            ) from None
        if answer.status_code >= 400 or not isinstance(body, dict):
            if method == "POST":
                raise NotSignedIn("The provider does not know this attempt to sign in; begin again.")
            raise Unavailable(f"The provider at {self.settings.issuer} answered {answer.status_code}.")
        return body


def _safe(address: object) -> str:
    """Return an address that is asked by TLS, or on this machine; raises Unavailable for another."""
    parts = urlsplit(str(address))
    if parts.scheme == "https" or is_loopback(parts.hostname or ""):
        return str(address)
    raise Unavailable("The provider names an address without TLS.")


def is_loopback(host: str) -> bool:
    """Tell whether a host is this machine."""
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
