"""Images: bytes in, bytes or plain facts out. Knows no material, no scene and no file."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

_CHANNELS = "rgba"


class ImageError(ValueError):
    """Bytes that are not an image we can use."""


@dataclass(frozen=True)
class ImageInfo:
    """What an image's header says: ``kind`` is ``PNG``, ``JPEG`` or another name, ``channels`` e.g. RGBA."""

    kind: str
    width: int
    height: int
    channels: str


def inspect(data: bytes) -> ImageInfo:
    """The facts in an image's header, without decoding its pixels."""
    image = _opened(data)
    return ImageInfo(image.format or "", image.width, image.height, image.mode)


def to_png(data: bytes) -> bytes:
    """The same picture as PNG."""
    return _png(_loaded(data))


def pack(size: tuple[int, int], red: Source, green: Source, blue: Source, alpha: Source | None = None) -> bytes:
    """A PNG whose channels come from other images, or are one value (0 to 255) all over.

    Parameters
    ----------
    size : (width, height)
        Every source is resized to this.
    red, green, blue, alpha : (bytes, channel) or int
        ``channel`` is one of ``r g b a l``; l is the lightness.
    """
    planes = [_plane(source, size) for source in (red, green, blue, *(() if alpha is None else (alpha,)))]
    return _png(Image.merge("RGB" if alpha is None else "RGBA", planes))


Source = tuple[bytes, str] | int


def has_alpha(data: bytes) -> bool:
    """Whether some pixel is not fully opaque."""
    image = _opened(data)
    if "A" not in image.mode and "transparency" not in image.info:
        return False
    return int(np.asarray(_loaded(data).convert("RGBA"))[..., 3].min()) < 255


def is_cut_out(data: bytes, channel: str) -> bool:
    """Whether a transparency map is nearly all or nothing, so that cutting out serves better than blending."""
    values = _values(data, channel)
    return bool(np.mean((values < 32) | (values > 223)) > 0.9)


def looks_like_normal_map(data: bytes) -> bool:
    """Whether colours cluster about the blue of an undisturbed normal."""
    pixels = np.asarray(_loaded(data).convert("RGB").resize((64, 64), Image.Resampling.BOX), float)
    mean = pixels.reshape(-1, 3).mean(axis=0)
    return bool(mean[2] > 180 and abs(mean[0] - 128) < 40 and abs(mean[1] - 128) < 40)


def _values(data: bytes, channel: str) -> NDArray[np.uint8]:
    return np.asarray(_channel(_loaded(data), channel))


def _opened(data: bytes) -> Image.Image:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            return Image.open(io.BytesIO(data))
    except UnidentifiedImageError:
        raise ImageError("is not an image in a known format") from None
    except (Image.DecompressionBombError, Image.DecompressionBombWarning):
        raise ImageError(f"has more than {Image.MAX_IMAGE_PIXELS} pixels") from None
    except Exception as error:  # Pillow's decoders raise what they like on damaged files
        raise ImageError(f"is damaged ({error})") from None


def _loaded(data: bytes) -> Image.Image:
    image = _opened(data)
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


def _png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()
