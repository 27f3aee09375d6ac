"""How a service is reached: whom to trust, and through which proxy, as every client on this machine does it."""

from __future__ import annotations

import os
import ssl
from pathlib import Path
from urllib.parse import urlsplit

import httpx

from kinetrum.client.spool.obstructions import PROXIES
from kinetrum.client.transport.connection import saved
from kinetrum.core.base.errors import InvalidInput, Unavailable
from kinetrum.core.base.values import JsonObject


def open_client(url: str, timeout: httpx.Timeout, headers: dict[str, str], ca: str | None = None) -> httpx.Client:
    """Open a client for a service at an address, which may have a path.

    `ca` names a file of certificates that are trusted besides the system's; without it, the one saved with the
    connection counts. Raises Unavailable where a file or a proxy that the settings name cannot be used.
    """
    secure = url.startswith("https://")
    # Over plain HTTP nobody is asked for a certificate, and a context that knows no authority trusts nobody; loading
    # every authority of the machine takes longer than many a call.
    context = context_for(ca or _saved_ca(url)) if secure else ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    options: JsonObject = {"base_url": url, "headers": headers, "timeout": timeout, "verify": context}
    try:
        return httpx.Client(trust_env=_may_use_proxy(url), **options)
    except (ImportError, ValueError, httpx.InvalidURL) as error:
        named = ", ".join(name for name in PROXIES if os.environ.get(name))
        raise Unavailable(f"The proxy that {named} names cannot be used: {error}.") from error


def context_for(ca: str | None) -> ssl.SSLContext:
    """Return what trusts the system's authorities, those of SSL_CERT_FILE and SSL_CERT_DIR, and those of a file."""
    context = ssl.create_default_context()
    if not _system_has_authorities():
        import certifi

        context.load_verify_locations(cafile=certifi.where())
    if ca is not None:
        try:
            context.load_verify_locations(cafile=ca)
        except OSError as error:
            raise Unavailable(f"{ca} cannot be used as a file of certificates ({_short(error)}).") from error
    return context


def check_ca(path: str) -> str:
    """Return the whole path of a file of certificates; raises InvalidInput where it is none."""
    whole = str(Path(path).expanduser().absolute())
    try:
        ssl.create_default_context().load_verify_locations(cafile=whole)
    except OSError as error:
        raise InvalidInput(f"{path} is not a file of certificates in PEM form ({_short(error)}).", field="ca") from None
    return whole


def why_unreached(url: str, error: BaseException) -> str:
    """Say why a service did not answer, and what helps."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLCertVerificationError):
            return (
                f"The certificate of {url} is not trusted ({cause.verify_message}). Where it is your company's own, "
                f"name its authority: 'kinetrum connect {url} --ca FILE', or SSL_CERT_FILE."
            )
        cause = cause.__cause__ or cause.__context__
    proxy = " through the proxy of the environment" if isinstance(error, httpx.ProxyError) else ""
    return f"The service at {url} was not reached{proxy} ({_plain(error)})."


def _plain(error: BaseException) -> str:
    """Return an error's text without the numbers of the operating system."""
    if isinstance(error, httpx.ConnectTimeout):
        return "no answer to the attempt to connect"
    if isinstance(error, httpx.TimeoutException):
        return "it did not answer in time"
    text = str(error)
    return text.partition("] ")[2] if text.startswith("[Errno") else text or type(error).__name__


def _short(error: OSError) -> str:
    return "no certificate in it" if isinstance(error, ssl.SSLError) else str(error.strerror)


def _saved_ca(url: str) -> str | None:
    """Return the certificates saved with the connection that an address, or one below it, belongs to."""
    for address, entry in saved()["connections"].items():
        if url == address or url.startswith(f"{address}/"):
            ca: str | None = entry.get("ca")
            return ca
    return None


def _system_has_authorities() -> bool:
    paths = ssl.get_default_verify_paths()
    if paths.cafile is not None:
        return True
    try:
        return paths.capath is not None and any(os.scandir(paths.capath))
    except OSError:
        return False


def _may_use_proxy(url: str) -> bool:
    """Tell whether the environment's proxies count: they are read only where one is named, and never for loopback."""
    host = urlsplit(url).hostname or ""
    loopback = host == "localhost" or host.startswith("127.") or host == "::1"
    return not loopback and any(os.environ.get(name) for name in PROXIES)
