"""The calls that deliver records of runs, and what happens to those that are refused for good."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from kinetrum.client.sender.file_operations import (
    body_of,
    fingerprint_used,
    forget_files,
    upload_generated,
    upload_used,
)
from kinetrum.client.sender.fingerprints import Fingerprints
from kinetrum.client.sender.routes import Routes
from kinetrum.client.sender.split_bodies import halves, halves_of_output, part_name
from kinetrum.client.spool.obstructions import NotYet
from kinetrum.client.spool.rejected import keep_files, keep_refused
from kinetrum.client.spool.run_numbers import keep_number
from kinetrum.client.transport.http import BodyRefused, path_of
from kinetrum.core.base import errors
from kinetrum.core.base.values import JsonObject
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch

_HEADERS = {"Content-Type": BATCH_MEDIA_TYPE}


class RunCalls:
    """Sends to any number of services; one connection to each."""

    def __init__(self, root: Path, lane: str | None = None) -> None:
        self.root = root
        self.routes = Routes(root, lane)
        self._prints: Fingerprints | None = None
        self._fitting: dict[str, int] = {}
        # While true, a run that the service does not know is waited for; else its records are refused for good.
        self.patient = False

    def close(self) -> None:
        """Close all connections."""
        self.routes.close()
        if self._prints is not None:
            self._prints.close()
            self._prints = None

    def _path(self, address: JsonObject, *more: str) -> str:
        return path_of(
            "projects",
            address["project"],
            "experiments",
            address["experiment"],
            "runs",
            address["run"],
            *more,
        )

    def _call(self, address: JsonObject, method: str, path: str, **options: object) -> Any:
        try:
            return self.routes.run(address["to"], lambda service: service.call(method, path, **options))
        except errors.NotFound as error:
            if error.field == "run" and self.patient:
                raise NotYet(str(error)) from error
            raise

    def points(self, address: dict[str, object], batch: str, groups: list[Group]) -> None:
        """Send a batch of points, in parts where a proxy takes no body of its size.

        Parts may arrive more than once, and beside the whole: the service keeps each point once.
        """
        try:
            self._send_points(address, batch, groups)
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            columns = [
                {
                    "keys": group.keys,
                    "steps": group.steps.tolist(),
                    "times": group.times.tolist(),
                    "values": group.values.tolist(),
                }
                for group in groups
            ]
            self._set_aside(address, {"op": "points", "batch": batch, "groups": columns}, error)

    def _send_points(self, address: JsonObject, batch: str, groups: list[Group]) -> None:
        body = encode_batch(groups)
        if len(body) <= self._fitting.get(address["to"], len(body)):
            try:
                self._call(
                    address,
                    "POST",
                    self._path(address, "points"),
                    params={"batch": batch},
                    content=body,
                    headers=_HEADERS,
                )
                return
            except BodyRefused:
                self._fitting[address["to"]] = len(body) // 2
                if len(halves(groups)) < 2:
                    raise
        for number, part in enumerate(halves(groups)):
            self._send_points(address, part_name(batch, number), part)

    def output(self, address: dict[str, object], writer: str, pieces: list[dict[str, object]]) -> None:
        """Send what a process of the run printed, in parts where a proxy takes no body of its size."""
        try:
            self._send_output(address, writer, pieces)
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            self._set_aside(address, {"op": "output", "writer": writer, "pieces": pieces}, error)

    def _send_output(self, address: dict[str, object], writer: str, pieces: list[dict[str, object]]) -> None:
        try:
            self._call(address, "POST", self._path(address, "output"), json={"writer": writer, "pieces": pieces})
        except BodyRefused:
            parts = halves_of_output(pieces)
            if len(parts) < 2:
                raise
            for part in parts:
                self._send_output(address, writer, part)

    def resources(self, address: dict[str, object], uid: str, samples: JsonObject) -> None:
        """Send samples of what the run uses of its machine; what is refused is no matter here."""
        try:
            self._call(address, "POST", self._path(address, "resources"), json={"id": uid, "samples": samples})
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def operate(self, data: JsonObject, folder: Path) -> None:
        """Send one record that is no point."""
        try:
            {
                "begin": self._begin,
                "params": self._params,
                "results": self._results,
                "use": self._use,
                "used": self._used,
                "generated": self._generated,
                "problem": self._problem,
                "resume": self._resume,
                "label": self._label,
                "note": self._note,
                "surroundings": self._surroundings,
                "activity": self._activity,
                "progress": self._progress,
                "plot": self._plot,
                "end": self._end,
            }[data["op"]](data, folder)
        except errors.Unavailable:
            raise
        except errors.KinetrumError as error:
            keep_files(self.root, folder, data)
            self._set_aside(data, data, error)

    def deliver(self, record: JsonObject, folder: Path) -> None:
        """Send a record that was set aside before."""
        if record["op"] == "output":
            self.output(record, record["writer"], record["pieces"])
            return
        if record["op"] != "points":
            self.operate(record, folder)
            return
        groups = [
            Group(
                tuple(item["keys"]),
                np.array(item["steps"], np.int64),
                np.array(item["times"], np.int64),
                np.array(item["values"], np.float64).reshape(len(item["keys"]), len(item["steps"])),
            )
            for item in record["groups"]
        ]
        self.points(record, record["batch"], groups)

    def alive(self, address: dict[str, object]) -> None:
        """Beat the heart of a run; what is refused is no matter here."""
        try:
            self._call(address, "POST", self._path(address, "signs"))
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def _begin(self, data: JsonObject, folder: Path) -> None:
        fields = ("started_at", "name", "host", "parent", "lease_s", "params", "goals", "labels", "about")
        begun = self._call(data, "PUT", self._path(data), json={field: data[field] for field in fields})
        keep_number(folder, data["run"], begun["number"], begun["reference"], begun.get("name"))

    def _params(self, data: JsonObject, folder: Path) -> None:
        answer = self._call(data, "POST", self._path(data, "parameters"), json={"params": data["params"]})
        for item in answer["set_aside"]:
            self._keep(data, errors.Conflict(item["text"]))

    def _results(self, data: dict[str, object], folder: Path) -> None:
        self._call(data, "POST", self._path(data, "results"), json={"results": data["results"]})

    def _use(self, data: dict[str, object], folder: Path) -> None:
        fields = ("id", "at", "artifact", "role", "activity")
        self._call(data, "POST", self._path(data, "used"), json={field: data.get(field) for field in fields})

    def _used(self, data: JsonObject, folder: Path) -> None:
        # Records of earlier versions have no word on uploading.
        upload = data.get("upload", False)
        files, changed = fingerprint_used(data, folder, self._memory(), None)
        if upload:
            self.routes.run(data["to"], lambda service: upload_used(service, data, folder, files, None))
        self._call(data, "POST", self._path(data, "used"), json=body_of(data, files, not upload), timeout=300)
        if changed:
            self._tell(data, f"The input {data['name']} changed between its use and its fingerprint: {changed[0]}.")
        forget_files(data, folder)

    def _generated(self, data: JsonObject, folder: Path) -> None:
        files = self.routes.run(data["to"], lambda service: upload_generated(service, data, folder, None))
        self._call(data, "POST", self._path(data, "generated"), json=body_of(data, files, False), timeout=300)
        forget_files(data, folder)

    def _plot(self, data: JsonObject, folder: Path) -> None:
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

    def _problem(self, data: JsonObject, folder: Path) -> None:
        fields = ("id", "text", "at")
        self._call(data, "POST", self._path(data, "problems"), json={field: data[field] for field in fields})

    def _label(self, data: JsonObject, folder: Path) -> None:
        body = {"runs": [f"{data['experiment']}/{data['run']}"], "labels": data["labels"]}
        self._call(data, "POST", path_of("projects", data["project"], "labels"), json=body)

    def _note(self, data: JsonObject, folder: Path) -> None:
        body = {"things": [f"{data['experiment']}/{data['run']}"], "id": data["id"], "text": data["text"]}
        self._call(data, "POST", path_of("projects", data["project"], "notes"), json=body)

    def _surroundings(self, data: dict[str, object], folder: Path) -> None:
        self._call(data, "PUT", self._path(data, "surroundings"), json=data["caught"])

    def _activity(self, data: JsonObject, folder: Path) -> None:
        fields = ("name", "started_at", "ended_at", "failed")
        path = self._path(data, "activities", data["id"])
        self._call(data, "PUT", path, json={field: data[field] for field in fields})

    def _progress(self, data: dict[str, object], folder: Path) -> None:
        fields = ("done", "total", "since", "at")
        self._call(data, "PUT", self._path(data, "progress"), json={field: data[field] for field in fields})

    def _resume(self, data: dict[str, object], folder: Path) -> None:
        self._call(data, "POST", self._path(data, "resumption"), json={"at": data["at"]})

    def _end(self, data: dict[str, object], folder: Path) -> None:
        fields = ("status", "reason", "ended_at")
        self._call(data, "POST", self._path(data, "ending"), json={field: data[field] for field in fields})

    def _tell(self, address: dict[str, object], text: str) -> None:
        import time

        from kinetrum.client.spool.complete_segment import new_id

        body = {"id": new_id(), "text": text[:2_000], "at": time.time_ns() // 1000}
        try:
            self._call(address, "POST", self._path(address, "problems"), json=body)
        except errors.Unavailable:
            raise
        except errors.KinetrumError:
            return

    def _set_aside(self, address: dict[str, object], record: dict[str, object], error: errors.KinetrumError) -> None:
        self._keep({**record, **{key: address[key] for key in ("run", "to", "project", "experiment")}}, error)
        self._tell(address, f"A record ({record['op']}) was refused and set aside: {error}")

    def _keep(self, record: dict[str, object], error: errors.KinetrumError) -> None:
        keep_refused(self.root, record, str(error))
