"""Answers hold what was recorded before they were asked for."""

from __future__ import annotations

from fastapi import Request

from kinetrum.actions import recording
from kinetrum.service.access import comes_with_secret

BEHIND_HEADER = "Kinetrum-Behind"
_READING = frozenset({"GET", "HEAD"})


def read_up_to_date(request: Request) -> None:
    """Bring in the points that wait before a request reads; what records does not wait for it."""
    if request.method in _READING:
        act_up_to_date(request)


def act_up_to_date(request: Request) -> None:
    """Bring in the points that wait before a request reads, or acts by what runs recorded.

    Of how many runs that was not done in time is noted for the answer's header.
    """
    # Who does not even say who asks is refused later, and has nothing done.
    if comes_with_secret(request):
        request.state.behind = recording.bring_up_to_date(request.path_params.get("project"))
