"""`python -m kinetrum.demo.stand_ins`: start the provider; print the settings with which the service knows it."""

from __future__ import annotations

import json

from kinetrum.demo.stand_ins.starting import start_provider
from kinetrum.instance.settings import default_home

if __name__ == "__main__":
    print(json.dumps(start_provider(default_home())))  # noqa: T201
