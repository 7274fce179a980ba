"""What a page shows: assets with their files, read when they are looked at, and read again when they have changed."""

from __future__ import annotations

import hashlib
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from zesty_otter.audit.findings import Finding
from zesty_otter.errors import InputError, InternalError, ZestyOtterError
from zesty_otter.formats import all_formats
from zesty_otter.formats.files import inputs_of
from zesty_otter.model import Scene
from zesty_otter.page.packing import PAGE, Budget, Packed, finding_facts, footing_places, pack
from zesty_otter.pipeline.watching import Stamp, stamp_of, wait_for_change
from zesty_otter.targets import Target

Which = Literal["after", "before"]

_KEPT = 3  # scenes, and packed ones
_KEPT_PICTURES = 600
_AGAIN = 0.3  # seconds after which what could not be read is read once more: it may not have been whole
_THUMB = (440, 280)  # pixels
_HELD_UP = 0.25  # seconds before a watch that failed is tried again


@dataclass(frozen=True)
class Shown:
    """One asset of a page.

    Parameters
    ----------
    name : str
    read : callable
        Reads it; raises `ZestyOtterError`.
    files : tuple of Path
        What it is read from, as far as it is known before.
    before : callable or None
        Reads what it was made from.
    before_files : tuple of Path
    state : str
        In a word or two, such as what a job did with it.
    error : str
        Why there is nothing to show.
    findings : tuple of Finding
        What is known of it beside what is found when it is looked at.
    target : Target or None
        Whose rules it is held to.
    triangles : int or None
    size : (float, float, float) or None
        In metres, where that is known without reading it.
    """

    name: str
    read: Callable[[], Scene]
    files: tuple[Path, ...]
    before: Callable[[], Scene] | None = None
    before_files: tuple[Path, ...] = ()
    state: str = ""
    error: str = ""
    findings: tuple[Finding, ...] = ()
    target: Target | None = None
    triangles: int | None = None
    size: tuple[float, float, float] | None = None

    @property
    def key(self) -> str:
        """A short name for addresses."""
        said = repr((self.name, [str(one) for one in self.files[:1]]))
        return hashlib.blake2b(said.encode(), digest_size=6).hexdigest()


@dataclass(frozen=True)
class Contents:
    """Everything on a page. ``state`` says what is the matter where there is nothing; ``files`` and ``folders`` are
    watched beside those of the assets, ``folders`` for new files that can be read."""

    title: str
    assets: tuple[Shown, ...]
    state: str = ""
    files: tuple[Path, ...] = ()
    folders: tuple[Path, ...] = ()


@dataclass(frozen=True)
class Change:
    """What has changed: one asset by its key, or the list of them; in words where there is something to say."""

    kind: Literal["asset", "list"]
    key: str = ""
    text: str = ""


@dataclass
class _Known:
    """What was learned of an asset when it was read: its files with time and size, and some facts.

    ``files`` is replaced, never changed: several threads look at it.
    """

    files: dict[Path, Stamp] = field(default_factory=dict)
    triangles: int | None = None
    size: tuple[float, float, float] | None = None
    counts: tuple[int, int] | None = None  # errors and warnings


class Shelf:
    """The assets of a page. Safe to ask from several threads.

    Parameters
    ----------
    contents : callable
        Says what there is; called again when files that it names change.
    budget : Budget
    """

    def __init__(self, contents: Callable[[], Contents], budget: Budget = PAGE) -> None:
        self._contents_of, self._budget = contents, budget
        self._lock = threading.RLock()
        self._making: dict[tuple[str, ...], threading.Lock] = {}
        self._made: OrderedDict[tuple[str, ...], Any] = OrderedDict()
        self._pictures: OrderedDict[tuple[str, ...], bytes] = OrderedDict()
        self._known: dict[str, _Known] = {}
        self._news = threading.Event()  # more is to be watched than is
        self._take(contents())

    def _take(self, contents: Contents) -> None:
        with self._lock:
            self._contents = contents
            self._by_key = {one.key: one for one in contents.assets}

    def begin(self) -> None:
        """Make what will be asked for first, where there is one asset only."""
        with self._lock:
            keys = list(self._by_key)
        if len(keys) == 1:
            with suppress(ZestyOtterError):  # said when it is asked for
                self.packed(keys[0], "after")

    def refresh(self) -> None:
        """Ask again what there is."""
        self._take(self._contents_of())

    # ---- what there is

    def listing(self) -> dict[str, Any]:
        """All assets as plain data."""
        with self._lock:
            contents = self._contents
        return {
            "title": contents.title,
            "state": contents.state if not contents.assets else "",
            "assets": [self._entry(one) for one in contents.assets],
        }

    def _entry(self, shown: Shown) -> dict[str, Any]:
        known = self._known.get(shown.key, _Known())
        severities = [one.severity for one in shown.findings]
        errors, warnings = known.counts or (severities.count("error"), severities.count("warning"))
        return {
            "key": shown.key,
            "name": shown.name,
            "state": shown.state,
            "error": shown.error or self._gone(shown),
            "triangles": shown.triangles if shown.triangles is not None else known.triangles,
            "size": shown.size or known.size,
            "errors": errors,
            "warnings": warnings,
            "before": shown.before is not None,
            "version": self.version(shown.key),
        }

    def _gone(self, shown: Shown) -> str:
        gone = next((path for path in shown.files if not path.exists()), None)
        return f"{gone.name} is not there any more." if gone else ""

    def version(self, key: str) -> int:
        """A number that changes with the files of an asset."""
        said = repr(sorted((str(path), stamp) for path, stamp in self._stamps(key).items()))
        return int.from_bytes(hashlib.blake2b(said.encode(), digest_size=6).digest())

    def _stamps(self, key: str) -> dict[Path, Stamp]:
        return {path: stamp_of(path) for path in self._files_of(self._asset(key))}

    def _files_of(self, shown: Shown) -> set[Path]:
        own = {path.absolute() for path in (*shown.files, *shown.before_files)}
        return own | self._known.get(shown.key, _Known()).files.keys()

    def _asset(self, key: str) -> Shown:
        with self._lock:
            found = self._by_key.get(key)
        if found is None:
            raise InputError("this asset is not on the page any more.", remedy="Go back to all assets.")
        return found

    # ---- one asset

    def packed(self, key: str, which: Which) -> Packed:
        """An asset as the page draws it, after or before its job."""
        return self._once(("pack", key, which), lambda: self._pack(key, which))

    def _pack(self, key: str, which: Which) -> Packed:
        scene = self._read(key, which)
        packed = pack(scene, self._budget)
        if which == "after":
            known = self._known.setdefault(key, _Known())
            known.triangles = sum(node["triangles"] for node in packed.facts["nodes"] if node["role"] == "visible")
            box = packed.facts["bounds"]
            known.size = None if box is None else tuple(high - low for low, high in zip(*box, strict=True))
        return packed

    def findings(self, key: str) -> list[dict[str, Any]]:
        """What an asset's target objects to, as plain data."""
        return self._once(("findings", key), lambda: self._check(key))

    def _check(self, key: str) -> list[dict[str, Any]]:
        from zesty_otter.audit import check

        shown = self._asset(key)
        scene = self._read(key, "after")
        found = {(one.rule, one.node): one for one in shown.findings}
        found |= {(one.rule, one.node): one for one in check(scene, shown.target or Target())}
        ordered = sorted(found.values(), key=lambda one: one.severity != "error")
        severities = [one.severity for one in ordered]
        known = self._known.setdefault(key, _Known())
        known.counts = severities.count("error"), severities.count("warning")
        return [finding_facts(one, scene) for one in ordered]

    def footing(self, key: str, which: Which) -> bytes:
        """See `zesty_otter.page.packing.footing_places`."""
        return self._once(("footing", key, which), lambda: footing_places(self._read(key, which)))

    def thumb(self, key: str) -> bytes:
        """A small picture of an asset, as PNG."""
        name = (key, str(self.version(key)))
        with self._lock:
            if name in self._pictures:
                self._pictures.move_to_end(name)
                return self._pictures[name]
        from zesty_otter.pictures import Look, picture, save

        look = Look(size=_THUMB, figure=False, words=False, axes=False)
        made = save(picture(self._read(key, "after"), look))
        with self._lock:
            self._pictures[name] = made
            if len(self._pictures) > _KEPT_PICTURES:
                self._pictures.popitem(last=False)
        return made

    def _read(self, key: str, which: Which) -> Scene:
        """An asset's scene, the last one that was read where nothing has changed since."""
        return self._once(("scene", key, which), lambda: self._freshly_read(key, which))

    def _freshly_read(self, key: str, which: Which) -> Scene:
        shown = self._asset(key)
        read = shown.read if which == "after" else shown.before
        if read is None:
            raise InputError("there is nothing before it.", file=shown.name)
        try:
            scene = _guarded(read, shown.name)
        except ZestyOtterError:
            time.sleep(_AGAIN)
            scene = _guarded(read, shown.name)
        known = self._known.setdefault(key, _Known())
        files = {path.absolute() for path in inputs_of(scene)}
        more = not files <= known.files.keys()
        known.files = {**known.files, **{path: stamp_of(path) for path in files}}
        if more:
            self._news.set()  # only now: whoever watches looks at once
        return scene

    def _once(self, what: tuple[str, ...], make: Callable[[], Any]) -> Any:
        """Make a thing once for each version of its asset, also when several ask for it at the same time."""
        with self._lock:
            lock = self._making.setdefault(what, threading.Lock())
        with lock:
            files = self._stamps(what[1])
            version = self.version(what[1])
            with self._lock:
                made = self._made.get(what)
                if made is not None and made[0] == version:
                    self._made.move_to_end(what)
                    return made[1]
            value = make()
            if any(stamp_of(path) != was for path, was in files.items()):
                return value  # a file has changed meanwhile: it is asked for again
            with self._lock:
                # Reading it may have told of more files, so it is known by its version as of now.
                self._made[what] = self.version(what[1]), value
                self._made.move_to_end(what)
                for old in [one for one in self._made if one[0] == what[0]][:-_KEPT]:
                    del self._made[old]
            return value

    # ---- what changes

    def changes(self, stop: threading.Event) -> Iterator[Change]:
        """What changes on the disk, as it does, until ``stop`` is set."""
        endings = {suffix for one in all_formats() if one.reader for suffix in one.suffixes}
        while not stop.is_set():
            with self._lock:
                contents = self._contents
            self._news.clear()
            files = {path.absolute() for path in contents.files}.union(*map(self._files_of, contents.assets))
            stamps = {path: stamp_of(path) for path in files}
            for one in contents.assets:
                stamps |= self._known.get(one.key, _Known()).files  # as they were when they were read
            folders = {folder.absolute() for folder in (*contents.folders, *(path.parent for path in files))}
            with suppress(OSError):
                either = _Either(stop, self._news)
                changed = wait_for_change(stamps, folders, endings if contents.folders else (), stop=either)
                if changed:
                    yield from self._changed(changed)
                continue
            stop.wait(_HELD_UP)

    def _changed(self, changed: Iterable[Path]) -> Iterator[Change]:
        changed = set(changed)
        with self._lock:
            before = self._contents
        after = self._contents_of()
        self._take(after)
        keys = [one.key for one in before.assets]
        if keys != [one.key for one in after.assets] or after.state != before.state:
            yield Change("list")
        was = {one.key: one for one in before.assets}
        for one in after.assets:
            own = self._files_of(one) & changed
            old = was.get(one.key)
            if not own and old is not None and (old.state, old.error) == (one.state, one.error):
                continue
            if own:
                known = self._known.setdefault(one.key, _Known())
                known.counts = None
                known.files = {**known.files, **{path: stamp_of(path) for path in own & known.files.keys()}}
            gone = self._gone(one)
            words = one.error or (f"{gone}" if gone else f"{', '.join(sorted(path.name for path in own)[:3])} changed")
            yield Change("asset", one.key, words if own or one.error else "")


class _Either(threading.Event):
    """Is set when one of some events is."""

    def __init__(self, *events: threading.Event) -> None:
        super().__init__()
        self.events = events

    def is_set(self) -> bool:
        return any(one.is_set() for one in self.events)


def _guarded(read: Callable[[], Scene], name: str) -> Scene:
    """A scene, or what is wrong with its file in words."""
    try:
        return read()
    except ZestyOtterError:
        raise
    except MemoryError:
        raise InputError("there is not enough memory for this.", file=name) from None
    except Exception as error:  # a fault of ours does not end the page
        raise InternalError.of(error, name) from error
