"""Reading, changing and writing images."""

from __future__ import annotations

import contextlib
import io
import warnings
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError, features

from zesty_otter.pixels import ImageError

_CHANNELS = "rgba"

SUFFIXES = frozenset({".png", ".jpg", ".jpeg", ".bmp", ".tga", ".tif", ".tiff", ".gif", ".webp", ".avif"})
"""Endings of image files, for searching."""

KINDS = ("PNG", "JPEG", "WEBP", "AVIF", "TGA", "BMP", "GIF", "TIFF")
"""The kinds of images that are opened, whatever a file calls itself: others may start programs or read other files.

AVIF where Pillow was built with it.
"""

_USUAL = ("PNG", "JPEG", "BMP", "GIF")
_OTHERS = ("WEBP", "AVIF", "TIFF", "TGA")  # the last one knows its own least surely


@dataclass(frozen=True)
class ImageInfo:
    """What an image's header says.

    Parameters
    ----------
    kind : str
        ``PNG``, ``JPEG`` or another name.
    width : int
    height : int
    channels : str
        Such as ``RGBA``.
    """

    kind: str
    width: int
    height: int
    channels: str


def is_for_graphics_cards(data: bytes) -> bool:
    """Whether bytes are a KTX2 file, which is kept and passed on but not opened.

    Parameters
    ----------
    data : bytes

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> is_for_graphics_cards(dot)
    False
    """
    return data.startswith(b"\xabKTX 20\xbb\r\n\x1a\n")


def inspect(data: bytes) -> ImageInfo:
    """The facts in an image's header, without decoding its pixels.

    Parameters
    ----------
    data : bytes
        An image file.

    Returns
    -------
    ImageInfo

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> inspect(dot)
    ImageInfo(kind='PNG', width=2, height=2, channels='RGBA')
    """
    image = _opened(data)
    return ImageInfo(image.format or "", image.width, image.height, image.mode)


def is_cut_short(data: bytes) -> bool:
    """Whether a PNG or JPEG ends before its end mark, as after a copy that was stopped.

    Parameters
    ----------
    data : bytes
        An image file.

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> is_cut_short(dot), is_cut_short(dot[:-8])
    (False, True)
    """
    if data.startswith(b"\x89PNG"):
        return b"IEND" not in data[-64:]
    return data.startswith(b"\xff\xd8") and b"\xff\xd9" not in data[-1024:]


def to_png(data: bytes) -> bytes:
    """The same picture as PNG.

    Parameters
    ----------
    data : bytes
        An image file.

    Returns
    -------
    bytes

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> to_png(dot)[1:4]
    b'PNG'
    """
    return _png(_loaded(data))


def rgba(data: bytes, largest: int | None = None) -> NDArray[np.uint8]:
    """(H, W, 4) the pixels of an image, made smaller where a side has more than ``largest``.

    Parameters
    ----------
    data : bytes
        An image file.
    largest : int, optional
        In pixels.

    Returns
    -------
    (H, W, 4) uint8

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> rgba(dot).shape
    (2, 2, 4)
    """
    image = _opened(data)
    if largest is not None:
        image.draft("RGB", (largest, largest))  # lets a JPEG be decoded no larger than needed
    image = _loaded_from(image)
    if largest is not None:
        image.thumbnail((largest, largest))
    return np.asarray(image.convert("RGBA"))


def with_alpha(values: NDArray[np.uint8], alpha: bytes, channel: str) -> NDArray[np.uint8]:
    """Pixels (H, W, 4) with the channel of another image, brought to their size, as their alpha.

    Parameters
    ----------
    values : (H, W, 4) uint8
    alpha : bytes
        An image file.
    channel : {"r", "g", "b", "a"}

    Returns
    -------
    (H, W, 4) uint8

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> with_alpha(rgba(dot), dot, "r")[0, 0].tolist()
    [200, 200, 200, 200]
    """
    plane = _plane((alpha, channel), (values.shape[1], values.shape[0]))
    return np.dstack([values[..., :3], np.asarray(plane)])


def resized(values: NDArray[np.uint8], size: tuple[int, int]) -> NDArray[np.uint8]:
    """Pixels (H, W, n) in another size, (width, height); each channel for itself.

    Parameters
    ----------
    values : (H, W, n) uint8
    size : (int, int)
        Width and height.

    Returns
    -------
    (H', W', n) uint8

    Examples
    --------
    >>> import numpy as np
    >>> resized(np.full((4, 4, 1), 90, np.uint8), (2, 1)).tolist()
    [[[90], [90]]]
    """
    planes = [Image.fromarray(np.ascontiguousarray(values[..., k])) for k in range(values.shape[2])]
    return np.dstack([np.asarray(plane.resize(size, Image.Resampling.BILINEAR)) for plane in planes])


def png_of(values: NDArray[np.uint8]) -> bytes:
    """A PNG of pixels (H, W, 4), the same every time.

    Parameters
    ----------
    values : (H, W, 4) uint8

    Returns
    -------
    bytes

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> dot[1:4]
    b'PNG'
    """
    return _png(Image.fromarray(values))


def pack(size: tuple[int, int], red: Source, green: Source, blue: Source, alpha: Source | None = None) -> bytes:
    """A PNG whose channels come from other images, or are one value (0 to 255) all over.

    Parameters
    ----------
    size : (width, height)
        Every source is resized to this.
    red, green, blue, alpha : (bytes, channel) or int
        ``channel`` is one of ``r g b a l``; l is the lightness.

    Returns
    -------
    bytes
        The PNG file.

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> rgba(pack((1, 1), red=255, green=(dot, "r"), blue=0)).tolist()
    [[[255, 200, 0, 255]]]
    """
    planes = [_plane(source, size) for source in (red, green, blue, *(() if alpha is None else (alpha,)))]
    return _png(Image.merge("RGB" if alpha is None else "RGBA", planes))


Source = tuple[bytes, str] | int


def single_channel(data: bytes, channel: str) -> bytes:
    """One channel of an image as a grey PNG.

    Parameters
    ----------
    data : bytes
        An image file.
    channel : {"r", "g", "b", "a"}

    Returns
    -------
    bytes

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> rgba(single_channel(dot, "r"))[0, 0].tolist()
    [200, 200, 200, 255]
    """
    return _png(_channel(_loaded(data), channel))


def fitting_size(size: tuple[int, int], largest: int | None, power_of_two: str) -> tuple[int, int]:
    """The size an image should have.

    Parameters
    ----------
    size : (width, height)
    largest : int or None
        Most pixels of a side; both sides shrink alike.
    power_of_two : {"no", "nearest", "lower"}
        Afterwards, each side for itself; never above ``largest``.

    Returns
    -------
    width, height : int

    Examples
    --------
    >>> fitting_size((300, 200), 256, "nearest")
    (256, 128)
    """
    width, height = size
    if largest is not None and max(size) > largest:
        factor = largest / max(size)
        width, height = max(1, round(width * factor)), max(1, round(height * factor))
    if power_of_two == "no":
        return width, height
    sides = []
    for side in (width, height):
        lower = 1 << (side.bit_length() - 1)
        nearest = 2 * lower if power_of_two == "nearest" and side - lower > 2 * lower - side else lower
        sides.append(lower if largest is not None and nearest > largest else nearest)
    return sides[0], sides[1]


def rework(data: bytes, *, size: tuple[int, int], flip_green: bool, kind: str, holds: str = "color") -> bytes:
    """The image in another size, with its green channel turned upside down, as PNG or JPEG.

    JPEG has no transparency; an image that needs it stays PNG.

    Parameters
    ----------
    holds : {"color", "normal", "data"}
        What its pixels are. Colours are mixed as light is, in linear numbers and weighted by alpha; normals keep their
        length of one.

    Returns
    -------
    bytes
        The image file.

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> made = rework(dot, size=(1, 1), flip_green=True, kind="png")
    >>> rgba(made)[0, 0].tolist()
    [200, 55, 200, 255]
    """
    image = _loaded(data)
    if image.size != size:
        image = _resized(image, size, holds)
    if flip_green:
        planes = list(image.convert("RGB").split())
        planes[1] = planes[1].point([255 - value for value in range(256)])
        image = Image.merge("RGB", planes)
    opaque = image.mode != "RGBA" or int(np.asarray(image)[..., 3].min()) == 255
    if kind == "JPEG" and opaque:
        out = io.BytesIO()
        image.convert("RGB" if image.mode != "L" else "L").save(out, "JPEG", quality=92)
        return out.getvalue()
    return _png(image)


def has_alpha(data: bytes) -> bool:
    """Whether some pixel is not fully opaque.

    Parameters
    ----------
    data : bytes
        An image file.

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> has_alpha(dot)
    True
    """
    image = _opened(data)
    if "A" not in image.mode and "transparency" not in image.info:
        return False
    return int(np.asarray(_loaded(data).convert("RGBA"))[..., 3].min()) < 255


def is_cut_out(data: bytes, channel: str) -> bool:
    """Whether a transparency map is nearly all or nothing, so that cutting out serves better than blending.

    Parameters
    ----------
    data : bytes
        An image file.
    channel : {"r", "g", "b", "a"}

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> dot = png_of(np.full((2, 2, 4), 200, np.uint8))
    >>> is_cut_out(dot, "a")
    False
    """
    values = _values(data, channel)
    return bool(np.mean((values < 32) | (values > 223)) > 0.9)


def looks_like_normal_map(data: bytes) -> bool:
    """Whether colours cluster about the blue of an undisturbed normal.

    Parameters
    ----------
    data : bytes
        An image file.

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> flat = png_of(np.full((8, 8, 4), (128, 128, 255, 255), np.uint8))
    >>> looks_like_normal_map(flat)
    True
    """
    pixels = np.asarray(_loaded(data).convert("RGB").resize((64, 64), Image.Resampling.BOX), float)
    mean = pixels.reshape(-1, 3).mean(axis=0)
    return bool(mean[2] > 180 and abs(mean[0] - 128) < 40 and abs(mean[1] - 128) < 40)


def _values(data: bytes, channel: str) -> NDArray[np.uint8]:
    return np.asarray(_channel(_loaded(data), channel))


@cache
def _others() -> list[str]:
    """Those of the less usual kinds that Pillow can open, loaded: it would load all it knows, most of it never used."""
    for name in ("WebP", "Avif", "Tiff", "Tga"):
        with contextlib.suppress(ImportError):
            import_module(f"PIL.{name}ImagePlugin")
    return [kind for kind in _OTHERS if kind in Image.OPEN and (kind != "AVIF" or features.check("avif"))]


def opens(kind: str) -> bool:
    """Whether images of a kind can be opened here.

    Parameters
    ----------
    kind : str
        One of `KINDS`.

    Returns
    -------
    bool

    Examples
    --------
    >>> opens("PNG")
    True
    """
    return kind in _USUAL or kind in _others()


def _opened(data: bytes) -> Image.Image:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with contextlib.suppress(UnidentifiedImageError):
                return Image.open(io.BytesIO(data), formats=_USUAL)
            return Image.open(io.BytesIO(data), formats=_others())
    except UnidentifiedImageError:
        known = ", ".join(kind for kind in KINDS if kind in (*_USUAL, *_others()))
        raise ImageError(f"is not an image of a known kind ({known})") from None
    except (Image.DecompressionBombError, Image.DecompressionBombWarning):
        raise ImageError(f"has more than {Image.MAX_IMAGE_PIXELS} pixels") from None
    except Exception as error:  # Pillow's decoders raise what they like on damaged files
        raise ImageError(f"is damaged ({error})") from None


def _loaded(data: bytes) -> Image.Image:
    return _loaded_from(_opened(data))


def _loaded_from(image: Image.Image) -> Image.Image:
    try:
        image.load()
    except Exception as error:
        raise ImageError(f"is damaged ({error})") from None
    if image.mode in ("P", "PA", "LA", "La", "RGBa"):
        return image.convert("RGBA")
    if image.mode.startswith("I") or image.mode == "F":
        return Image.fromarray((np.asarray(image, float) / 257).clip(0, 255).astype(np.uint8))
    return image if image.mode in ("L", "RGB", "RGBA") else image.convert("RGB")


def _channel(image: Image.Image, channel: str) -> Image.Image:
    if channel == "l":
        return image.convert("L")
    return image.convert("RGBA").getchannel(_CHANNELS.index(channel))


def _plane(source: Source, size: tuple[int, int]) -> Image.Image:
    if isinstance(source, int):
        return Image.new("L", size, source)
    plane = _channel(_loaded(source[0]), source[1])
    return plane if plane.size == size else plane.resize(size, Image.Resampling.LANCZOS)


def _resized(image: Image.Image, size: tuple[int, int], holds: str) -> Image.Image:
    if holds == "data":
        return image.resize(size, Image.Resampling.LANCZOS)
    values = np.asarray(image, np.float32) / 255
    values = values[..., None] if values.ndim == 2 else values
    alpha = values[..., 3:] if values.shape[2] == 4 else None
    color: NDArray[Any] = values[..., :3]
    if holds == "normal" and color.shape[2] == 3:
        color = color * 2 - 1
    else:
        color = np.where(color <= 0.04045, color / 12.92, ((color + 0.055) / 1.055) ** 2.4)
    # A hair of weight is left to what is seen through, so that its colour does not come out of nothing.
    weight = np.float32(1.0) if alpha is None else np.maximum(alpha, 1e-3)
    small: NDArray[Any] = planes_resized(color * weight, size)
    if alpha is not None:
        through = planes_resized(alpha, size)
        small = small / np.maximum(planes_resized(np.maximum(alpha, 1e-3), size), 1e-4)
    if holds == "normal" and color.shape[2] == 3:
        length = np.linalg.norm(small, axis=2, keepdims=True)
        small = np.where(length > 1e-6, small / np.maximum(length, 1e-6), (0.0, 0.0, 1.0)) / 2 + 0.5
    else:
        small = np.clip(small, 0.0, 1.0)
        small = np.where(small <= 0.0031308, small * 12.92, 1.055 * small ** (1 / 2.4) - 0.055)
    if alpha is not None:
        small = np.concatenate([small, through], axis=2)
    pixels = np.rint(np.clip(small, 0, 1) * 255).astype(np.uint8)
    return Image.fromarray(pixels[..., 0] if pixels.shape[2] == 1 else pixels)


def planes_resized(values: NDArray[Any], size: tuple[int, int]) -> NDArray[np.float32]:
    """(H, W, n) numbers in another size."""
    planes = [Image.fromarray(np.ascontiguousarray(values[..., k], np.float32)) for k in range(values.shape[2])]
    return np.stack([np.asarray(one.resize(size, Image.Resampling.LANCZOS)) for one in planes], axis=2)


def _png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()
