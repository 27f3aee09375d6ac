"""Whose an address is."""

from __future__ import annotations

import pytest

from kinetrum.core.access.networks import network_of


@pytest.mark.parametrize(
    ("address", "network"),
    [
        ("10.0.0.7", "10.0.0.7"),
        ("2001:db8:1:2::1", "2001:db8:1:2::/64"),
        ("2001:db8:1:2:ffff:ffff:ffff:ffff", "2001:db8:1:2::/64"),
        ("2001:db8:1:3::1", "2001:db8:1:3::/64"),
        ("::ffff:10.0.0.7", "10.0.0.7"),
        ("fe80::1%eth0", "fe80::/64"),
        ("::1", "::/64"),
        ("unknown", "unknown"),
        ("", ""),
    ],
)
def test_of_ipv6_whoever_asks_holds_a_network(address: str, network: str) -> None:
    assert network_of(address) == network
