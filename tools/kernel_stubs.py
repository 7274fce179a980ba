"""Write the stub beside every kernel, from what the kernel says of itself; --check only looks.

usage: python tools/kernel_stubs.py [--check]
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src"
_DTYPES = {
    "double": "np.float64", "float": "np.float32", "uint8_t": "Any", "int8_t": "np.int8", "int16_t": "np.int16",
    "uint16_t": "np.uint16", "int32_t": "np.int32", "uint32_t": "np.uint32", "int64_t": "np.int64",
    "uint64_t": "np.uint64",
}  # fmt: skip
_SCALARS = {"double": "float", "float": "float", "bint": "bool", "void": "None", "object": "Any"}
_FUNCTION = re.compile(r"^(?:cpdef (?P<kind>\([^)]*\)|\w+)|def) (?P<name>\w+)\((?P<arguments>.*?)\)(?: noexcept)?:$",
                       re.MULTILINE | re.DOTALL)  # fmt: skip


def stub_of(kernel: str) -> str:
    """The stub of a kernel's text. Bytes and flags share a type there, so arrays of either are taken."""
    lines = []
    for block in re.findall(r"^cpdef enum:\n((?:    .*\n)+)", kernel, re.MULTILINE):
        lines += [f"{name}: int" for name in re.findall(r"^    ([A-Z]\w*) =", block, re.MULTILINE)]
    lines += [f"{name}: int" for name in re.findall(r"^([A-Z]+) = ", kernel, re.MULTILINE)]
    for found in _FUNCTION.finditer(kernel):
        if not found["name"].startswith("_"):
            arguments = ", ".join(_argument(one) for one in _split(found["arguments"]))
            lines.append(f"def {found['name']}({arguments}) -> {_result(found['kind'])}: ...")
    return (
        "from typing import Any\n\nimport numpy as np\nfrom numpy.typing import NDArray\n\n" + "\n".join(lines) + "\n"
    )


def _split(arguments: str) -> list[str]:
    """Arguments, parted at commas that stand in no bracket."""
    return [one.strip() for one in re.split(r",(?![^\[]*\])", arguments) if one.strip()]


def _argument(text: str) -> str:
    kind, name = text.removeprefix("const ").rsplit(" ", 1)
    scalar, bracket, _ = kind.partition("[")
    if bracket:
        return f"{name}: NDArray[{_DTYPES.get(scalar, 'Any')}]"
    return f"{name}: {_SCALARS.get(kind, 'int')}"


def _result(kind: str | None) -> str:
    if kind is None:
        return "Any"
    if kind.startswith("("):
        return f"tuple[{', '.join(_SCALARS.get(one.strip(), 'int') for one in kind.strip('()').split(','))}]"
    return _SCALARS.get(kind, "int")


def main() -> int:
    stale = 0
    for kernel in sorted(SOURCE.rglob("*.pyx")):
        stub, text = kernel.with_suffix(".pyi"), stub_of(kernel.read_text("utf-8"))
        if not stub.exists() or stub.read_text("utf-8") != text:
            stale += 1
            print(stub.relative_to(SOURCE.parent))
            if "--check" not in sys.argv:
                stub.write_text(text, "utf-8")
    return 1 if stale and "--check" in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())
