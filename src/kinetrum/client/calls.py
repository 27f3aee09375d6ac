"""The calls that deliver records of runs, and what happens to those that are refused for good."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from kinetrum.client.connection import saved
from kinetrum.client.file_calls import body_of, fingerprint_used, forget_files, upload_generated, upload_used
from kinetrum.client.fingerprints import Fingerprints
from kinetrum.client.http import Service, path_of
from kinetrum.client.refused import keep_files, keep_refused
from kinetrum.core import errors
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch

_HEADERS = {"Content-Type": BATCH_MEDIA_TYPE}


class NotYet(errors.Unavailable):
    """The run is not known yet: another process on another machine began it, and that has still to arrive."""


class RunCalls:
    """Sends to any number of services; one connection to each."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._services: dict[str, Service] = {}
        self._stale: set[str] = set()
        self._prints: Fingerprints | None = None
        # While true, a run that the service does not know is waited for; else its records are refused for good.
        self.patient = False

    def close(self) -> None:
        """Close all connections."""
        for service in self._services.values():
            service.close()
        self._services.clear()
        if self._prints is not None:
            self._prints.close()
            self._prints = None

    def _service(self, destination: str) -> Service:
        if destination not in self._services:
            found = json.loads((self.root / "destinations" / f"{destination}.json").read_text())
            # A token that was refused gives way to what the person has connected with since.
            token = None if destination in self._stale else found["token"]
            newer = saved()["connections"].get(found["url"], {}).get("token")
            self._services[destination] = Service(found["url"], token or newer or found["token"])
        return self._services[destination]

    def _refused(self, destination: str, error: errors.NotSignedIn) -> errors.Unavailable:
        """Kept and tried again: a person connects with a new token, and everything arrives."""
        self._services.pop(destination).close()
        self._stale.add(destination)
        return errors.Unavailable(f"{error} Connect with a new token: kinetrum connect URL.")

    def _path(self, address: dict[str, Any], *more: str) -> str:
        return path_of(
            "projects",
            address["project"],
            "experiments",
            address["experiment"],
            "runs",
            address["run"],
            *more,
        )

    def _call(self, address: dict[str, Any], method: str, path: str, **options: Any) -> Any:
        try:
            return self._service(address["to"]).call(method, path, **options)
        except errors.NotSignedIn as error:
            raise self._refused(address["to"], error) from error
        except errors.NotFound as error:
            if error.field == "run" and self.patient:
                raise NotYet(str(error)) from error
            raise

    def points(self, address: dict[str, Any], batch: str, groups: list[Group]) -> None:
        """Send a batch of points."""
        try:
            self._call(
                address, "POST", self._path(address, "points"), params={"batch": batch}, content=encode_batch(groups),
                headers=_HEADERS,
            )  # fmt: skip
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            columns = [{"keys": group.keys, "steps": group.steps.tolist(), "times": group.times.tolist(),
                        "values": group.values.tolist()} for group in groups]  # fmt: skip
            self._set_aside(address, {"op": "points", "batch": batch, "groups": columns}, error)

    def output(self, address: dict[str, Any], writer: str, pieces: list[dict[str, Any]]) -> None:
        """Send what a process of the run printed."""
        try:
            self._call(address, "POST", self._path(address, "output"), json={"writer": writer, "pieces": pieces})
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            self._set_aside(address, {"op": "output", "writer": writer, "pieces": pieces}, error)

    def resources(self, address: dict[str, Any], uid: str, samples: dict[str, Any]) -> None:
        """Send samples of what the run uses of its machine; what is refused is no matter here."""
        try:
            self._call(address, "POST", self._path(address, "resources"), json={"id": uid, "samples": samples})
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def operate(self, data: dict[str, Any], folder: Path) -> None:
        """Send one record that is no point."""
        try:
            {
                "begin": self._begin, "params": self._params, "results": self._results, "use": self._use,
                "used": self._used, "generated": self._generated, "problem": self._problem, "resume": self._resume,
                "label": self._label, "note": self._note, "surroundings": self._surroundings,
                "activity": self._activity, "progress": self._progress, "plot": self._plot,
                "end": self._end,
            }[data["op"]](data, folder)  # fmt: skip
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            keep_files(self.root, folder, data)
            self._set_aside(data, data, error)

    def deliver(self, record: dict[str, Any], folder: Path) -> None:
        """Send a record that was set aside before."""
        if record["op"] == "output":
            self.output(record, record["writer"], record["pieces"])
            return
        if record["op"] != "points":
            self.operate(record, folder)
            return
        groups = [
            Group(tuple(item["keys"]), np.array(item["steps"], np.int64), np.array(item["times"], np.int64),
                  np.array(item["values"], np.float64).reshape(len(item["keys"]), len(item["steps"])))
            for item in record["groups"]
        ]  # fmt: skip
        self.points(record, record["batch"], groups)

    def alive(self, address: dict[str, Any]) -> None:
        """Beat the heart of a run; what is refused is no matter here."""
        try:
            self._call(address, "POST", self._path(address, "signs"))
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def _begin(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("started_at", "name", "host", "parent", "lease_s", "params", "goals", "labels", "about")
        self._call(data, "PUT", self._path(data), json={field: data[field] for field in fields})

    def _params(self, data: dict[str, Any], folder: Path) -> None:
        answer = self._call(data, "POST", self._path(data, "parameters"), json={"params": data["params"]})
        for item in answer["set_aside"]:
            self._keep(data, errors.Conflict(item["text"]))

    def _results(self, data: dict[str, Any], folder: Path) -> None:
        self._call(data, "POST", self._path(data, "results"), json={"results": data["results"]})

    def _use(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("id", "at", "artifact", "role", "activity")
        self._call(data, "POST", self._path(data, "used"), json={field: data.get(field) for field in fields})

    def _used(self, data: dict[str, Any], folder: Path) -> None:
        # Records of earlier versions have no word on uploading.
        upload = data.get("upload", False)
        files, changed = fingerprint_used(data, folder, self._memory(), None)
        if upload:
            try:
                upload_used(self._service(data["to"]), data, folder, files, None)
            except errors.NotSignedIn as error:
                raise self._refused(data["to"], error) from error
        self._call(data, "POST", self._path(data, "used"), json=body_of(data, files, not upload), timeout=300)
        if changed:
            self._tell(data, f"The input {data['name']} changed between its use and its fingerprint: {changed[0]}.")
        forget_files(data, folder)

    def _generated(self, data: dict[str, Any], folder: Path) -> None:
        try:
            files = upload_generated(self._service(data["to"]), data, folder, None)
        except errors.NotSignedIn as error:
            raise self._refused(data["to"], error) from error
        self._call(data, "POST", self._path(data, "generated"), json=body_of(data, files, False), timeout=300)
        forget_files(data, folder)

    def _plot(self, data: dict[str, Any], folder: Path) -> None:
        path = folder / data["data"]
        if not path.exists():
            # Delivered before, and only the acknowledgement was cut off.
            return
        body = {field: data[field] for field in ("id", "at", "name", "step")} | json.loads(path.read_text())
        self._call(data, "POST", self._path(data, "plots"), json=body, timeout=120)
        path.unlink()

    def _memory(self) -> Fingerprints:
        if self._prints is None:
            self._prints = Fingerprints()
        return self._prints

    def _problem(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("id", "text", "at")
        self._call(data, "POST", self._path(data, "problems"), json={field: data[field] for field in fields})

    def _label(self, data: dict[str, Any], folder: Path) -> None:
        body = {"runs": [f"{data['experiment']}/{data['run']}"], "labels": data["labels"]}
        self._call(data, "POST", path_of("projects", data["project"], "labels"), json=body)

    def _note(self, data: dict[str, Any], folder: Path) -> None:
        body = {"things": [f"{data['experiment']}/{data['run']}"], "id": data["id"], "text": data["text"]}
        self._call(data, "POST", path_of("projects", data["project"], "notes"), json=body)

    def _surroundings(self, data: dict[str, Any], folder: Path) -> None:
        self._call(data, "PUT", self._path(data, "surroundings"), json=data["caught"])

    def _activity(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("name", "started_at", "ended_at", "failed")
        path = self._path(data, "activities", data["id"])
        self._call(data, "PUT", path, json={field: data[field] for field in fields})

    def _progress(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("done", "total", "since", "at")
        self._call(data, "PUT", self._path(data, "progress"), json={field: data[field] for field in fields})

    def _resume(self, data: dict[str, Any], folder: Path) -> None:
        self._call(data, "POST", self._path(data, "resumption"), json={"at": data["at"]})

    def _end(self, data: dict[str, Any], folder: Path) -> None:
        fields = ("status", "reason", "ended_at")
        self._call(data, "POST", self._path(data, "ending"), json={field: data[field] for field in fields})

    def _tell(self, address: dict[str, Any], text: str) -> None:
        import time

        from kinetrum.client.spool import new_id

        body = {"id": new_id(), "text": text[:2_000], "at": time.time_ns() // 1000}
        try:
            self._call(address, "POST", self._path(address, "problems"), json=body)
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def _set_aside(self, address: dict[str, Any], record: dict[str, Any], error: errors.KinetrumError) -> None:
        self._keep({**record, **{key: address[key] for key in ("run", "to", "project", "experiment")}}, error)
        self._tell(address, f"A record ({record['op']}) was refused and set aside: {error}")

    def _keep(self, record: dict[str, Any], error: errors.KinetrumError) -> None:
        keep_refused(self.root, record, str(error))
