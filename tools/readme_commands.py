"""Runs every command of the README's examples, in order, in the current folder: exit status 0, or 1 for findings.

Takes the program as its argument, so that an installation that holds nothing else can be tried.
"""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path


def commands(text: str) -> list[list[str]]:
    """The arguments of each line of the fenced blocks that begins with the program's name."""
    blocks = "\n".join(re.findall(r"^```\n(.*?)^```", text, re.MULTILINE | re.DOTALL)).replace("\\\n", " ")
    return [shlex.split(line, comments=True)[1:] for line in blocks.splitlines() if line.startswith("zesty-otter ")]


def main() -> int:
    program = Path(sys.argv[1]).resolve()
    readme = Path(__file__).parent.parent / "README.md"
    for arguments in commands(readme.read_text("utf-8")):
        done = subprocess.run([program, *arguments], capture_output=True, text=True)
        print("ok  " if done.returncode in (0, 1) else "FAIL", "zesty-otter", *arguments)
        if done.returncode not in (0, 1):
            print(done.stdout + done.stderr)
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
