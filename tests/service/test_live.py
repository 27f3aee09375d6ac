"""Live changes: told within two seconds, resumable, only to who may see them."""

from __future__ import annotations

import json
import threading
from typing import Any

import httpx
import pytest

from tests.conftest import Project, new_id, wait_for


class Listener:
    """Follows a project in a thread and keeps what it is told."""

    def __init__(self, project: Project, role: str = "viewer", last: str | None = None) -> None:
        self.events: list[dict[str, Any]] = []
        self.ids: list[str] = []
        headers = {"Authorization": f"Bearer {project.tokens[role]}"} | ({"Last-Event-ID": last} if last else {})
        self.ready, self.stop = threading.Event(), threading.Event()
        url = f"{project.instance.url}/api/v1{project.path('events')}"
        self.thread = threading.Thread(target=self._listen, args=(url, headers), daemon=True)
        self.thread.start()
        assert self.ready.wait(10)

    def _listen(self, url: str, headers: dict[str, str]) -> None:
        with httpx.Client(timeout=httpx.Timeout(5, read=0.5)) as client:
            try:
                with client.stream("GET", url, headers=headers) as answer:
                    for line in answer.iter_lines():
                        self.ready.set()
                        if line.startswith("data:"):
                            self.events.append(json.loads(line[5:]))
                        if line.startswith("id:"):
                            self.ids.append(line[3:].strip())
                        if self.stop.is_set():
                            return
            except httpx.ReadTimeout:
                if not self.stop.is_set():
                    self._listen(url, headers)

    def close(self) -> None:
        self.stop.set()
        self.thread.join(5)


def test_runs_and_acts_are_told(project: Project) -> None:
    listener = Listener(project)
    try:
        begun = project.begin()
        wait_for(lambda: any(event["subject"] == begun["reference"] for event in listener.events), 5)
        project.registered()
        wait_for(lambda: any(event.get("act") == "registered" for event in listener.events), 5)
        told = next(event for event in listener.events if event["subject"] == begun["reference"])
        assert (told["kind"], told["experiment"], told["status"]) == ("run", "frost-alarm", "running")
    finally:
        listener.close()


def test_what_happened_in_between_is_told_on_return(project: Project) -> None:
    first = Listener(project)
    begun = project.begin()
    wait_for(lambda: first.ids, 5)
    first.close()
    missed = project.begin()
    second = Listener(project, last=first.ids[-1])
    try:
        wait_for(lambda: any(event["subject"] == missed["reference"] for event in second.events), 5)
        assert begun
    finally:
        second.close()


def test_other_projects_are_not_told(project: Project, instance: Any) -> None:
    listener = Listener(project)
    try:
        instance.service().call("PUT", f"/projects/main/experiments/e/runs/{new_id()}", json={"started_at": 1})
        project.begin()
        wait_for(lambda: listener.events, 5)
        assert {event["project"] for event in listener.events} == {project.name}
    finally:
        listener.close()


@pytest.mark.parametrize(("role", "last", "status"), [("stranger", None, 404), ("viewer", "nonsense", 422)])
def test_refused_listeners(project: Project, role: str, last: str | None, status: int) -> None:
    headers = {"Authorization": f"Bearer {project.tokens[role]}"} | ({"Last-Event-ID": last} if last else {})
    answer = httpx.get(f"{project.instance.url}/api/v1{project.path('events')}", headers=headers)
    assert answer.status_code == status
