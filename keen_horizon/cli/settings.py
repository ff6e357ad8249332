"""``treatment``: what can be set, and to what."""

from __future__ import annotations

import argparse
import json

from ..core.treatment import Treatment, schema
from ..core.treatment.schema import settings_table


def add_treatment(verb: argparse.ArgumentParser) -> None:
    what = verb.add_mutually_exclusive_group(required=True)
    what.add_argument("--default", action="store_true")
    what.add_argument("--schema", action="store_true")
    what.add_argument("--table", action="store_true")
    verb.set_defaults(run=_treatment)


def _treatment(options: argparse.Namespace) -> None:
    if options.table:
        print(settings_table(), end="")
        return
    data = schema() if options.schema else Treatment().as_data()
    print(json.dumps(data, indent=2))
