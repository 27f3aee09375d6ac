"""What the service is told by its environment, checked before it begins."""

from __future__ import annotations

import ipaddress
import os
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from urllib.parse import urlsplit

from kinetrum.core.access.sealing import Seal
from kinetrum.service.http.mail import MailServer, read_mail_server

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True)
class ProviderSettings:
    """At whom people sign in (OpenID Connect), as whom the service asks there, and which claims it reads."""

    issuer: str
    client: str
    secret: str
    label: str = "Sign in elsewhere"
    name_claim: str = "preferred_username"
    groups_claim: str = "groups"


@dataclass(frozen=True)
class Settings:
    """Where the service listens and keeps files, at which address people reach it, and which proxies it believes.

    `public_address` has no slash at its end; None: the address that it listens on. `proxies` are believed about who
    asks and by which scheme (X-Forwarded-For, X-Forwarded-Proto); nobody else is.
    """

    database: str
    store: Path
    host: str = "127.0.0.1"
    port: int = 7373
    public_address: str | None = None
    proxies: tuple[Network, ...] = ()
    provider: ProviderSettings | None = None
    passwords: bool = True
    seal: Seal | None = None
    mail: MailServer | None = None

    def is_proxy(self, address: str) -> bool:
        """Tell whether an address is one of the proxies'."""
        return _is_in(address, self.proxies)


@lru_cache(maxsize=1_024)
def _is_in(address: str, networks: tuple[Network, ...]) -> bool:
    try:
        parsed = ipaddress.ip_address(address)
    except ValueError:
        return False
    return any(parsed in network for network in networks)


def read_settings() -> Settings:
    """Return the settings; raises SystemExit with a sentence where one is missing or wrong."""
    return Settings(
        database=_needed("KINETRUM_DATABASE"),
        store=Path(_needed("KINETRUM_STORE")),
        host=os.environ.get("KINETRUM_HOST", "127.0.0.1"),
        port=_port(os.environ.get("KINETRUM_PORT", "7373")),
        public_address=public_address(os.environ.get("KINETRUM_PUBLIC_ADDRESS", "")),
        proxies=proxies(os.environ.get("KINETRUM_PROXIES", "")),
        provider=(provider := _provider()),
        passwords=_passwords(provider),
        mail=_mail(),
        seal=_seal(_text_or_file("KINETRUM_SECRETS_KEY")),
    )


def _provider() -> ProviderSettings | None:
    issuer = os.environ.get("KINETRUM_OIDC_ISSUER", "")
    if not issuer:
        return None
    parts = urlsplit(issuer)
    if parts.scheme != "https" and parts.hostname not in {"127.0.0.1", "localhost", "::1"}:
        raise SystemExit(f"KINETRUM_OIDC_ISSUER is {issuer!r}; give an address that begins with https://.")
    secret = _text_or_file("KINETRUM_OIDC_SECRET")
    usual = ProviderSettings("", "", "")
    return ProviderSettings(
        issuer,
        _needed("KINETRUM_OIDC_CLIENT"),
        secret,
        os.environ.get("KINETRUM_OIDC_LABEL", usual.label),
        os.environ.get("KINETRUM_OIDC_NAME_CLAIM", usual.name_claim),
        os.environ.get("KINETRUM_OIDC_GROUPS_CLAIM", usual.groups_claim),
    )


def _text_or_file(name: str) -> str:
    """Return a setting from the environment, or from the file that NAME_FILE names; "" where neither is set."""
    path = os.environ.get(f"{name}_FILE")
    if not path:
        return os.environ.get(name, "")
    try:
        return Path(path).read_text(encoding="utf-8").strip()
    except OSError as error:
        raise SystemExit(f"{name}_FILE {path} cannot be read: {error.strerror}.") from None


def _mail() -> MailServer | None:
    address = _text_or_file("KINETRUM_MAIL")
    if not address:
        return None
    try:
        return read_mail_server(address, os.environ.get("KINETRUM_MAIL_FROM", ""))
    except ValueError as error:
        raise SystemExit(f"KINETRUM_MAIL is wrong: {error}.") from None


def _seal(keys: str) -> Seal | None:
    try:
        return Seal(keys.replace(",", " ").split()) if keys.strip() else None
    except ValueError as error:
        raise SystemExit(
            f"KINETRUM_SECRETS_KEY is wrong: {error}; 'kinetrum admin new-key' makes one. Several stand between "
            "spaces, the one in use first."
        ) from None


def _passwords(provider: ProviderSettings | None) -> bool:
    on = os.environ.get("KINETRUM_PASSWORDS", "on").lower() not in {"off", "0", "no", "false"}
    if not on and provider is None:
        raise SystemExit("KINETRUM_PASSWORDS is off and KINETRUM_OIDC_ISSUER is not set: nobody could sign in.")
    return on


def _needed(name: str) -> str:
    value = os.environ.get(name)
    if not value:
        raise SystemExit(f"{name} is not set; the service needs it.")
    return value


def _port(text: str) -> int:
    if not (text.isascii() and text.isdigit() and int(text) < 65_536):
        raise SystemExit(f"KINETRUM_PORT is {text!r}; give a number from 0 (a free one) to 65535.")
    return int(text)


def public_address(text: str) -> str | None:
    """Return the address at which people reach the service, None where none is given; raises SystemExit for others."""
    if not text:
        return None
    parts = urlsplit(text)
    if parts.scheme not in {"http", "https"} or not parts.hostname or parts.query or parts.fragment or parts.username:
        raise SystemExit(
            f"KINETRUM_PUBLIC_ADDRESS is {text!r}; give the address that people open, such as "
            "https://kinetrum.example or https://tools.example/kinetrum."
        )
    if parts.path.split("/")[1:2] in (["api"], ["assets"]):
        raise SystemExit(
            f"KINETRUM_PUBLIC_ADDRESS is {text!r}; its path cannot begin with /api or /assets, which are the service's "
            "own."
        )
    return text.rstrip("/")


def proxies(text: str) -> tuple[Network, ...]:
    """Return the networks of the proxies that are believed: addresses and networks between commas."""
    networks: list[Network] = []
    for one in filter(None, (part.strip() for part in text.split(","))):
        try:
            networks.append(ipaddress.ip_network(one, strict=False))
        except ValueError:
            raise SystemExit(
                f"KINETRUM_PROXIES names {one!r}; give addresses or networks between commas: 127.0.0.1,10.1.0.0/16."
            ) from None
    return tuple(networks)
