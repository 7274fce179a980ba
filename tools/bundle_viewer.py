"""Make the script of the page, src/zesty_otter/page/viewer.js, from viewer/: `make viewer`.

Needs Node.js and npm, and the npm registry once. What it makes is checked in, so that neither is needed to install.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
from pathlib import Path

ROOT = Path(__file__).parent.parent
HOME = ROOT / "viewer"
PAGE = ROOT / "src" / "zesty_otter" / "page"
LIBRARY = "twgl.js"


def sources_hash() -> str:
    """What the script is made of: its sources, and the versions of what they need."""
    digest = hashlib.sha256()
    for path in sorted([*HOME.glob("src/*.ts"), HOME / "package-lock.json", HOME / "tsconfig.json"]):
        digest.update(path.name.encode() + path.read_bytes())
    return digest.hexdigest()


def main() -> None:
    npm = shutil.which("npm")
    if npm is None:
        raise SystemExit("bundle_viewer: npm is not there; install Node.js 20 or later.")
    subprocess.run([npm, "ci", "--silent", "--no-fund", "--no-audit"], cwd=HOME, check=True)
    programs = HOME / "node_modules" / ".bin"
    subprocess.run([programs / "tsc"], cwd=HOME, check=True)
    options = ["--bundle", "--minify", "--format=iife", "--target=es2022", "--legal-comments=none", "--log-level=error"]
    made = subprocess.run(
        [programs / "esbuild", "src/main.ts", *options], cwd=HOME, check=True, capture_output=True, text=True
    )
    library = HOME / "node_modules" / LIBRARY
    version = json.loads((library / "package.json").read_text("utf-8"))["version"]
    made_from = f"/* Made by tools/bundle_viewer.py from viewer/ {sources_hash()}"
    head = f"{made_from}\n   with {LIBRARY} {version}, whose licence is in viewer.LICENSE.txt. */\n"
    (PAGE / "viewer.js").write_text(head + made.stdout, encoding="utf-8")
    licence = next(path for path in library.iterdir() if path.name.lower().startswith("licen"))
    (PAGE / "viewer.LICENSE.txt").write_text(
        f"viewer.js holds parts of {LIBRARY} {version}:\n\n{licence.read_text('utf-8')}", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
