"""What is printed, on its way into the spool: what looks like a secret does not leave the machine."""

from __future__ import annotations

import os

_OFF = frozenset({"off", "0", "no", "false"})


class SecretFilter:
    """Hides secrets in pieces of output, also one that stands in two pieces of a stream."""

    def __init__(self) -> None:
        self._hides = os.environ.get("KINETRUM_HIDE_IN_OUTPUT", "on").lower() not in _OFF
        # Of each stream, what may be the beginning of a secret that goes on in the next piece.
        self._begun: dict[int, bytes] = {}

    def passed(self, stream: int, data: bytes) -> bytes:
        """Return what of a piece, in UTF-8, goes on now; what may be half a secret is kept for the next one."""
        if not self._hides:
            return data
        from kinetrum.core.text.secrets import hide_in_output, unfinished_secret

        text = (self._begun.pop(stream, b"") + data).decode("utf-8", "surrogateescape")
        begun = unfinished_secret(text)
        if begun:
            self._begun[stream] = text[-begun:].encode("utf-8", "surrogateescape")
            text = text[:-begun]
        return hide_in_output(text).encode("utf-8", "surrogateescape")

    def rest(self) -> list[tuple[int, bytes]]:
        """Return what was kept as half a secret and did not go on, by its stream."""
        if not self._begun:
            return []
        from kinetrum.core.text.secrets import hide_in_output

        kept, self._begun = self._begun, {}
        return [
            (stream, hide_in_output(data.decode("utf-8", "surrogateescape")).encode("utf-8", "surrogateescape"))
            for stream, data in kept.items()
        ]
