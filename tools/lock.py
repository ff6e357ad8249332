"""Work out the exact versions and hashes of all packages, of what they need in turn too.

``requirements.in`` and ``requirements-dev.in`` say what is wanted; the ``.txt`` beside each is what
``./keen`` installs, and nothing else. To be run after a change to them; it needs a network.
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

HOME = Path(__file__).resolve().parent.parent
UV = Path(sys.executable).parent / "uv"
OLDEST = "3.11"  # Python; newer ones, and other machines, are in the lock too
OPTIONS = ["--quiet", "--universal", "--python-version", OLDEST, "--generate-hashes"]
OPTIONS += ["--no-header", "--no-annotate"]  # no registry's address is written down


def main() -> int:
    for name, bound in (("requirements", []), ("requirements-dev", ["-c", "requirements.txt"])):
        made = subprocess.run(
            [UV, "pip", "compile", *OPTIONS, f"{name}.in", "-o", f"{name}.txt", *bound], cwd=HOME
        )
        if made.returncode:
            return made.returncode
    return 0


if __name__ == "__main__":
    sys.exit(main())
