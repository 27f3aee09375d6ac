"""Answers hold what was recorded before they were asked for."""

from __future__ import annotations

from fastapi import Request

from kinetrum.actions.recording import intake
from kinetrum.service.http.access import SignedIn

BEHIND_HEADER = "Kinetrum-Behind"
_READING = frozenset({"GET", "HEAD"})


def read_up_to_date(request: Request, actor: SignedIn) -> None:
    """Bring in the points that wait before a request reads; what records does not wait for it."""
    if request.method in _READING:
        act_up_to_date(request, actor)


def act_up_to_date(request: Request, _: SignedIn) -> None:
    """Bring in the points that wait before a request reads, or acts by what runs recorded.

    Nothing is done for whoever is not signed in. The number of runs that are not up to date in time is noted for the
    answer's header.
    """
    path_values = request.path_params
    # What asks for one run may show runs below it, which may be of another experiment.
    experiment = path_values.get("experiment") if "run" not in path_values else None
    request.state.behind = intake.bring_up_to_date(path_values.get("project"), experiment)
