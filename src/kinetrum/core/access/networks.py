"""Whose an address is: what is counted by address is counted by whoever holds that, and not once for each of many."""

from __future__ import annotations

import ipaddress
from functools import lru_cache

_HELD_BITS = 64


@lru_cache(maxsize=4_096)
def network_of(address: str) -> str:
    """Return what whoever asks from an address holds: an IPv4 address, or of IPv6 the network of 64 bits.

    One subscriber gets at least so much of IPv6 (RFC 6177), and may come from any address in it. What is no address is
    returned as it is.
    """
    try:
        parsed = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return address
    if isinstance(parsed, ipaddress.IPv6Address):
        if parsed.ipv4_mapped is not None:
            return str(parsed.ipv4_mapped)
        return str(ipaddress.ip_network((parsed, _HELD_BITS), strict=False))
    return str(parsed)
