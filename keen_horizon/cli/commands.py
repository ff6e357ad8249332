"""The commands, and the one that takes them.

What a command stands on is imported once it is asked for: the computation's libraries take a while.
"""

from __future__ import annotations

import argparse
import os
import sys
from importlib import import_module

from ..core.errors import KeenError

COMMANDS = {  # where each is (its ``add_…`` there says what it takes), and what it does
    "measure": (".flat", "measure the camera's motion"),
    "correct": (".flat", "measure, solve and render"),
    "cost": (".flat", "what more or less calm would cost"),
    "glass": (".flat", "find light that the lens loses, and colours it parts"),
    "treatment": (".settings", "print the default treatment, its schema, or a table of settings"),
    "lens": (".lens", "find a lens, convert or print what it takes"),
}


def main(arguments: list[str] | None = None) -> int:
    """Run one command; exit status 0 only on success."""
    arguments = sys.argv[1:] if arguments is None else arguments
    options = _parser(arguments[:1]).parse_args(arguments)
    try:
        options.run(options)
        sys.stdout.flush()
    except KeenError as error:
        print(f"keen: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("keen: stopped; nothing was written.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        # Whoever read the output has seen enough; nothing is left to flush at the end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 141  # as a shell has it for SIGPIPE
    return 0


def _parser(asked: list[str]) -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="keen", description=sys.modules[__package__].__doc__)
    verbs = parser.add_subparsers(required=True, metavar="command")
    for name, (home, what) in COMMANDS.items():
        verb = verbs.add_parser(name, help=what)
        if [name] == asked:
            getattr(import_module(home, __package__), f"add_{name}")(verb)
    return parser
