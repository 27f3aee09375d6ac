"""Batches of points as JSON: columns, checked by shape before anything is kept."""

from __future__ import annotations

import numpy as np
from pydantic import ValidationError

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import check_key, number_from_json
from kinetrum.core.points.codec import STEP_LIMIT, Group, check_group
from kinetrum.wire.runs import PointBatch


def groups_from_json(body: bytes) -> list[Group]:
    """Read and check a JSON batch; raises InvalidInput that says where it is wrong."""
    try:
        batch = PointBatch.model_validate_json(body)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise InvalidInput(f"{where or 'The body'}: {first['msg']}.", field=where or "body") from None
    groups = []
    for at, columns in enumerate(batch.groups):
        keys = tuple(check_key(key, "metric") for key in columns.keys)
        count = len(columns.steps)
        if (
            len(columns.times) != count
            or len(columns.values) != len(keys)
            or any(len(v) != count for v in columns.values)
        ):
            raise InvalidInput(
                f"groups.{at}: {len(keys)} keys and {count} steps ask for {count} times and {len(keys)} lists of "
                f"{count} values.",
                field=f"groups.{at}",
            )
        if any(abs(step) > STEP_LIMIT for step in columns.steps):
            raise InvalidInput(f"groups.{at}: a step lies outside ±{STEP_LIMIT}.", field=f"groups.{at}.steps")
        rows = [
            [number_from_json(value, key) for value in column] for key, column in zip(keys, columns.values, strict=True)
        ]
        group = Group(
            keys,
            np.array(columns.steps, np.int64),
            np.array(columns.times, np.int64),
            np.array(rows, np.float64).reshape(len(keys), count),
        )
        check_group(group)
        groups.append(group)
    return groups
