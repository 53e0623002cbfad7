"""Pictures that people bring: known by what they hold and never by their name, and drawn anew before they are shown."""

from __future__ import annotations

import hashlib
import io
import warnings
from dataclasses import dataclass
from typing import Literal

from PIL import Image, ImageOps, UnidentifiedImageError

from calm_tariff.core.errors import Invalid

Kind = Literal["logo", "icon"]
MOST_BYTES = 2_000_000
# A few bytes can claim to be a picture that fills the memory.
MOST_PIXELS = 16_000_000
TAKEN = ("PNG", "JPEG", "WEBP", "GIF")
KINDS: tuple[Kind, ...] = ("logo", "icon")
# The largest each is shown, on screens of twice the usual density.
SIZES: dict[Kind, tuple[int, int]] = {"logo": (640, 128), "icon": (180, 180)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """A picture as it is shown: a PNG that holds the picture and nothing else, its size in pixels, and a digest."""

    content: bytes
    width: int
    height: int
    digest: str


def drawn(content: bytes, kind: Kind, field: str = "picture") -> Picture:
    """A picture drawn anew, no larger than it is shown. Raises `Invalid` for what is none, or too large."""
    if len(content) > MOST_BYTES:
        raise Invalid(f"may have at most {MOST_BYTES:,} bytes; this has {len(content):,}", field)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(content), formats=TAKEN) as brought:
                if brought.width * brought.height > MOST_PIXELS:
                    raise Invalid(f"may have at most {MOST_PIXELS:,} pixels: {brought.width} × {brought.height}", field)
                picture = ImageOps.exif_transpose(brought).convert("RGBA")
    except Invalid:
        raise
    except UnidentifiedImageError:
        svg = b"<svg" in content[:2000].lower()
        what = "SVG is not taken, for it can hold programs: save it as PNG" if svg else "this is none of them"
        raise Invalid(f"PNG, JPEG, WebP and GIF are taken; {what}", field) from None
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise Invalid(f"the picture cannot be read: {error}", field) from None
    picture.thumbnail(SIZES[kind], Image.Resampling.LANCZOS)
    made = io.BytesIO()
    picture.save(made, "PNG", optimize=True)
    png = made.getvalue()
    return Picture(content=png, width=picture.width, height=picture.height, digest=hashlib.sha256(png).hexdigest())
