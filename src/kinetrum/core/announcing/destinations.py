"""Where announcements may go: to addresses of the world, and within the own network only where that is named."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
# What of IPv6 leads to addresses of IPv4 (RFC 6052; beside it RFC 4291, RFC 3056, RFC 4380) leads inside too.
_TRANSLATED = ipaddress.ip_network("64:ff9b::/96")


def why_refused(address: str, named: Sequence[Network] = ()) -> str | None:
    """Return why nothing is sent to an address, None where it may be.

    Parameters
    ----------
    address:
        What the name of a receiver was resolved to; the connection has to go to this one, and not to what the same name
        may be resolved to later.
    named:
        Networks within which receivers may be all the same.
    """
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return f"{address!r} is no address"
    for one in _judged(found):
        if any(one.version == network.version and one in network for network in named):
            continue
        if not one.is_global or one.is_multicast or one.is_reserved or one.is_unspecified:
            return f"{address} is within a private network or this machine itself"
    return None


def _judged(address: Address) -> list[Address]:
    """Return the addresses that one stands for: of IPv6 also the IPv4 address within it, or that alone."""
    if isinstance(address, ipaddress.IPv4Address):
        return [address]
    if address.ipv4_mapped:
        return [address.ipv4_mapped]
    if address in _TRANSLATED:
        return [ipaddress.IPv4Address(int(address) & 0xFFFF_FFFF)]
    within = address.sixtofour or (address.teredo[1] if address.teredo else None)
    return [address, within] if within else [address]
