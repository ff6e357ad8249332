"""Copy the front-end packages into the repository, with their versions and licences.

    python -m tools.vendor

Needs npm once; the application itself never loads anything from a network.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
from pathlib import Path

TARGET = Path(__file__).parent.parent / "keen_horizon" / "web" / "static" / "vendor"
PACKAGES = {
    "bootstrap": ("5.3.9", {"dist/css/bootstrap.min.css": "bootstrap.min.css"}),
    "@alpinejs/csp": ("3.17.4", {"dist/cdn.min.js": "alpine-csp.min.js"}),
    "tus-js-client": ("4.3.1", {"dist/tus.min.js": "tus.min.js"}),
    "bootstrap-icons": (
        "1.13.2",
        {
            "font/bootstrap-icons.min.css": "bootstrap-icons.min.css",
            "font/fonts/bootstrap-icons.woff2": "fonts/bootstrap-icons.woff2",
        },
    ),
    "@fontsource-variable/source-sans-3": (
        "5.3.0",
        {
            "files/source-sans-3-latin-wght-normal.woff2": "fonts/source-sans-3-latin.woff2",
            "files/source-sans-3-latin-ext-wght-normal.woff2": (
                "fonts/source-sans-3-latin-ext.woff2"
            ),
        },
    ),
    "@fontsource/ibm-plex-mono": (
        "5.3.0",
        {
            "files/ibm-plex-mono-latin-400-normal.woff2": "fonts/ibm-plex-mono-400.woff2",
            "files/ibm-plex-mono-latin-500-normal.woff2": "fonts/ibm-plex-mono-500.woff2",
        },
    ),
}
# Alpine's package carries no licence file; its package.json says MIT.
LICENCE_NAMES = ("LICENSE", "LICENSE.md", "LICENSE.txt")


def main() -> None:
    shutil.rmtree(TARGET, ignore_errors=True)
    (TARGET / "fonts").mkdir(parents=True)
    (TARGET / "licences").mkdir()
    lines = ["# Vendored front-end packages", "", "Written by `python -m tools.vendor`.", ""]
    lines += ["| package | version | licence | files |", "|---|---|---|---|"]
    with tempfile.TemporaryDirectory() as room:
        wanted = [f"{name}@{version}" for name, (version, _) in PACKAGES.items()]
        quietly = ["--silent", "--ignore-scripts", "--no-save", "--prefix", room]
        subprocess.run(["npm", "install", *quietly, *wanted], check=True)
        for name, (version, files) in PACKAGES.items():
            source = Path(room) / "node_modules" / name
            described = json.loads((source / "package.json").read_text())
            if described["version"] != version:
                raise SystemExit(f"{name}: got {described['version']}, wanted {version}")
            for inside, outside in files.items():
                shutil.copyfile(source / inside, TARGET / outside)
            for licence in LICENCE_NAMES:
                if (source / licence).exists():
                    short = name.replace("/", "-").lstrip("@")
                    shutil.copyfile(source / licence, TARGET / "licences" / f"{short}.txt")
            listed = ", ".join(f"`{f}`" for f in files.values())
            lines.append(f"| {name} | {version} | {described['license']} | {listed} |")
    # Source maps are not shipped, so nobody should ask for them.
    for path in TARGET.glob("*.css"):
        text = path.read_text()
        if "sourceMappingURL" in text:
            path.write_text(text[: text.rfind("/*# sourceMappingURL")])
    (TARGET / "README.md").write_text("\n".join(lines) + "\n")


if __name__ == "__main__":
    main()
