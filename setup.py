"""Compiles the kernels: every ``.pyx`` below ``src`` becomes a module beside it.

``ZESTY_OTTER_CHECKED=1`` builds them with bounds checked, ``ZESTY_OTTER_CHECKED=address`` with the address sanitizer
as well; CI runs hostile files and the property tests on that build.
"""

from __future__ import annotations

import gc
import os
import re
import shutil
import sys
import sysconfig
from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup
from setuptools.command.build_ext import build_ext
from setuptools.errors import CCompilerError, CompileError, ExecError, PlatformError

CHECKED = os.environ.get("ZESTY_OTTER_CHECKED", "")
BUILD = Path("build", "checked" if CHECKED else "plain")
SHARED = "zesty_otter._kernels"  # what all kernels share, compiled once

if sys.platform == "win32":
    FLAGS = ["/O2", "/fp:precise"]
else:
    # No contraction and no assumptions on types: the same bits on every machine and at every level of optimisation.
    FLAGS = ["-O3", "-ffp-contract=off", "-fno-math-errno", "-fno-trapping-math", "-fno-strict-aliasing", "-g0"]
LINK: list[str] = []
if CHECKED:
    FLAGS = ["-O1", "-g", *FLAGS[1:-1]]
if CHECKED == "address":
    FLAGS += ["-fsanitize=address", "-fno-omit-frame-pointer"]
    LINK += ["-fsanitize=address"]

DIRECTIVES = {
    "language_level": 3,
    "boundscheck": bool(CHECKED),
    "wraparound": False,
    "initializedcheck": bool(CHECKED),
    "cdivision": True,
    "infer_types": False,
    "freethreading_compatible": True,
    # Less to compile: nobody looks into kernels as into functions of Python.
    "binding": False,
    "emit_code_comments": False,
    "show_performance_hints": False,
}


def raising(text: str) -> str:
    """Kernels that pass errors on, by a value that is none of theirs where they can: else each call asks for a lock."""
    rest = r"(?:(?!\b(?:c|cp)?def\b).)*?"
    for kinds, value in (("u?int32_t|u?int64_t", 1953064306), ("double|float", -1.0625e300), ("bint|int", -7)):
        form = rf"^(cp?def (?:inline )?(?:{kinds}) {rest})noexcept"
        text = re.sub(form, rf"\1except? {value}", text, flags=re.M | re.S)
    text = re.sub(rf"^(cp?def (?:inline )?)void ({rest})noexcept", r"\1int \2except -1", text, flags=re.M | re.S)
    # What takes numbers only looks nothing up.
    text = re.sub(r"^(cdef inline \([\w, ]+\) \w+\([^\[]*?\) )noexcept", r"\1NOTHING", text, flags=re.M)
    text = text.replace("noexcept", "except *").replace("NOTHING", "noexcept")
    return re.sub(r"^( +)return$", r"\1return 0", text, flags=re.M)


def source_folder() -> Path:
    """Where the sources are: for a checked build a copy, whose kernels raise instead of passing over an error."""
    if not CHECKED:
        return Path("src")
    for path in Path("src").rglob("*.*"):
        copy = BUILD / path
        if path.suffix in (".pyx", ".pxd"):
            text = raising(path.read_text("utf-8"))
            if not copy.exists() or copy.read_text("utf-8") != text:
                copy.parent.mkdir(parents=True, exist_ok=True)
                copy.write_text(text, "utf-8")
        elif path.suffix in (".py", ".toml", ".html", ".css", ".js"):
            copy.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(path, copy)
    return BUILD / "src"


def written_as_c(modules: list[Extension]) -> list[Extension]:
    gc.set_threshold(100_000, 50, 50)  # a third of the time went into looking for what is no longer used
    return cythonize(
        modules,
        shared_utility_qualified_name=SHARED,
        compiler_directives=DIRECTIVES,
        include_path=[str(SOURCE)],
        nthreads=0 if sys.platform == "win32" else os.cpu_count() or 1,
        build_dir=str(BUILD / "c"),
        quiet=True,
    )


class BuildKernels(build_ext):
    """Compiles on all cores, and says what is missing where it cannot."""

    def initialize_options(self) -> None:
        super().initialize_options()
        self.parallel = os.cpu_count() or 1
        if CHECKED:
            # Else the plain build would take these for its own, as they are newer than the sources.
            self.build_lib, self.build_temp = str(BUILD / "lib"), str(BUILD / "temp")

    def run(self) -> None:
        # Only here: a build asks for what it needs and for what it is called as well, which takes no kernel.
        written = {one.name: one.sources for one in written_as_c(self.extensions)}
        for one in self.extensions:
            one.sources = written[one.name]
        try:
            super().run()
        except (CCompilerError, CompileError, ExecError, PlatformError) as error:
            header = Path(sysconfig.get_path("include"), "Python.h")
            lacking = "a C compiler that works, such as gcc" if header.exists() else f"the headers of Python ({header})"
            raise SystemExit(
                f"\nzesty-otter: the kernels could not be compiled: {error}\n"
                f"Missing: {lacking}. On Debian and its relatives: apt-get install gcc python3-dev.\n"
                "A wheel needs neither a compiler nor headers.\n"
            ) from None


def extensions(folder: Path) -> list[Extension]:
    modules = {SHARED: BUILD / "_kernels.c"}  # written by Cython
    # The longest first, so that no core waits long for the last one.
    for path in sorted(folder.rglob("*.pyx"), key=lambda path: -path.stat().st_size):
        modules[".".join(path.relative_to(folder).with_suffix("").parts)] = path
    # It has no loops, and is a tenth of what the compiler has to read.
    lighter = [*FLAGS, "-O1"] if FLAGS[0] == "-O3" else FLAGS
    return [
        Extension(name, [str(path)], extra_compile_args=lighter if name == SHARED else FLAGS, extra_link_args=LINK)
        for name, path in modules.items()
    ]


SOURCE = source_folder()
setup(package_dir={"": str(SOURCE)}, ext_modules=extensions(SOURCE), cmdclass={"build_ext": BuildKernels})
