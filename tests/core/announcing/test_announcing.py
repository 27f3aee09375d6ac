"""Announcements: signed as receivers check it, tried again for three days, and sent to nowhere inside."""

from __future__ import annotations

import base64
import ipaddress
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from standardwebhooks.webhooks import Webhook, WebhookVerificationError

from kinetrum.core.announcing.destinations import why_refused
from kinetrum.core.announcing.retries import GIVEN_UP_AFTER_S, is_given_up, pause_before
from kinetrum.core.announcing.signatures import is_signed, key_of, signature_of

SECRET = "whsec_" + base64.b64encode(bytes(range(24))).decode()
OTHER = "whsec_" + base64.b64encode(bytes(range(1, 25))).decode()


def clock() -> int:
    return int(datetime.now(UTC).timestamp())


@given(st.text(alphabet=st.characters(exclude_characters=".", codec="ascii"), max_size=40), st.text(max_size=200))
def test_a_receiver_that_keeps_to_the_standard_accepts_it(message: str, body: str) -> None:
    """The oracle is the package of the standard's own authors."""
    now = clock()
    signature = signature_of([SECRET], message, now, body.encode())
    headers = {"webhook-id": message, "webhook-timestamp": str(now), "webhook-signature": signature}
    moment = datetime.fromtimestamp(now, UTC)
    assert signature == Webhook(SECRET).sign(message, moment, body)
    if body == "{}" and message:
        Webhook(SECRET).verify(body, headers)
    assert is_signed([SECRET], message, now, body.encode(), signature, now)


def test_what_was_changed_or_is_late_is_not_accepted() -> None:
    now = clock()
    body = b'{"version": 5}'
    signature = signature_of([SECRET], "m1", now, body)
    headers = {"webhook-id": "m1", "webhook-timestamp": str(now), "webhook-signature": signature}
    assert Webhook(SECRET).verify(body, headers) == {"version": 5}
    assert is_signed([SECRET], "m1", now, body, signature, now + 300)
    for secrets, message, seconds, content, then in (
        ([OTHER], "m1", now, body, now),
        ([SECRET], "m2", now, body, now),
        ([SECRET], "m1", now + 1, body, now),
        ([SECRET], "m1", now, body + b" ", now),
        ([SECRET], "m1", now, body, now + 301),
        ([SECRET], "m1", now, body, now - 301),
        ([], "m1", now, body, now),
        # A dot would let one part be taken for another.
        ([SECRET], f"m1.{now}", now, body, now),
    ):
        assert not is_signed(secrets, message, seconds, content, signature, then)
    for nothing in ("", "v1", "v1,", "v2," + signature[3:], "v1a," + signature[3:], "ä"):
        assert not is_signed([SECRET], "m1", now, body, nothing, now)
    with pytest.raises(WebhookVerificationError):
        Webhook(OTHER).verify(body, headers)
    with pytest.raises(ValueError, match="has no dot"):
        signature_of([SECRET], "m.1", now, body)


def test_while_a_secret_is_changed_either_is_accepted() -> None:
    now = clock()
    signature = signature_of([OTHER, SECRET], "m1", now, b"{}")
    headers = {"webhook-id": "m1", "webhook-timestamp": str(now), "webhook-signature": signature}
    for secret in (SECRET, OTHER):
        assert Webhook(secret).verify("{}", headers) == {}
        assert is_signed([secret], "m1", now, b"{}", signature, now)


def test_secrets_of_either_form() -> None:
    assert key_of(SECRET) == bytes(range(24))
    assert key_of("Grüße") == "Grüße".encode()
    for wrong in ("whsec_ä", "whsec_abc", "whsec_a b="):
        with pytest.raises(ValueError, match="is base64") as raised:
            key_of(wrong)
        assert wrong not in str(raised.value)


def test_pauses_grow_and_stay_below_six_hours() -> None:
    whole = [pause_before(attempt, 0) for attempt in range(1, 30)]
    assert whole[:3] == [5.0, 12.5, 31.25]
    assert whole == sorted(whole) and whole[-1] == 6 * 3_600
    assert pause_before(10**9, 0) == 6 * 3_600
    for attempt in (1, 5, 40):
        assert pause_before(attempt, 1) == pause_before(attempt, 0) / 2
    # In three days there are more tries than a receiver needs to come back, and fewer than would be a burden.
    tries, waited = 0, 0.0
    while waited < GIVEN_UP_AFTER_S:
        tries += 1
        waited += pause_before(tries, 0.5)
    assert 20 <= tries <= 40


@pytest.mark.parametrize(
    ("status", "failing_for_s", "given_up"),
    [
        (500, GIVEN_UP_AFTER_S - 1, False),
        (500, GIVEN_UP_AFTER_S, True),
        (None, GIVEN_UP_AFTER_S, True),
        (None, 0, False),
        (410, 0, True),
        (404, 0, False),
    ],
)
def test_a_rule_is_given_up_after_three_days_or_where_its_receiver_is_gone(
    status: int | None, failing_for_s: float, given_up: bool
) -> None:
    assert is_given_up(status, failing_for_s) is given_up


INSIDE = [
    "127.0.0.1",
    "127.8.8.8",
    "10.0.0.1",
    "172.16.0.1",
    "192.168.1.1",
    "169.254.169.254",
    "100.64.0.1",
    "0.0.0.0",
    "224.0.0.1",
    "255.255.255.255",
    "::1",
    "::",
    "fe80::1%eth0",
    "fc00::1",
    "ff02::1",
    # IPv4 in the clothes of IPv6.
    "::ffff:127.0.0.1",
    "::ffff:169.254.169.254",
    "64:ff9b::7f00:1",
    "64:ff9b::a9fe:a9fe",
    "2002:7f00:1::",
    "2002:a9fe:a9fe::1",
]


@pytest.mark.parametrize("address", INSIDE)
def test_nothing_is_sent_inside(address: str) -> None:
    assert "within a private network or this machine itself" in (why_refused(address) or "")
    assert why_refused(address, [ipaddress.ip_network("192.0.2.0/24"), ipaddress.ip_network("2001:db8::/32")])


@pytest.mark.parametrize("address", ["1.1.1.1", "8.8.8.8", "2606:4700:4700::1111", "64:ff9b::101:101"])
def test_outside_is_sent_to(address: str) -> None:
    assert why_refused(address) is None


def test_what_is_named_is_sent_to() -> None:
    loopback = [ipaddress.ip_network("127.0.0.0/8"), ipaddress.ip_network("::1/128")]
    assert why_refused("127.0.0.1", loopback) is None
    assert why_refused("::1", loopback) is None
    assert why_refused("::ffff:127.0.0.1", loopback) is None
    assert why_refused("10.0.0.1", loopback)
    assert why_refused("10.0.0.1", [ipaddress.ip_network("10.0.0.0/16")]) is None
    assert why_refused("10.1.0.1", [ipaddress.ip_network("10.0.0.0/16")])
    assert why_refused("kinetrum.example") == "'kinetrum.example' is no address"
