"""Pictures are known by what they hold, and none is shown as it came."""

from __future__ import annotations

import io

import pytest
from PIL import Image, PngImagePlugin

from calm_tariff.core.errors import Invalid
from calm_tariff.formats import pictures


def encoded(kind: str, size: tuple[int, int] = (50, 40), **more: object) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, "#7B2D26").save(out, kind, **more)
    return out.getvalue()


@pytest.mark.parametrize("kind", pictures.TAKEN)
def test_each_kind_becomes_a_png_of_its_own(kind: str) -> None:
    drawn = pictures.drawn(encoded(kind), "logo")
    assert drawn.content.startswith(b"\x89PNG") and (drawn.width, drawn.height) == (50, 40)
    assert pictures.drawn(encoded(kind), "logo").digest == drawn.digest


def test_what_else_a_picture_brings_is_left_behind() -> None:
    words = PngImagePlugin.PngInfo()
    words.add_text("Comment", "<script>alert(1)</script>")
    brought = encoded("PNG", pnginfo=words) + b"<html>PK\x03\x04"
    assert b"script" in brought
    drawn = pictures.drawn(brought, "logo").content
    assert b"script" not in drawn and b"html" not in drawn


def test_a_picture_is_no_larger_than_it_is_shown_and_stands_as_it_was_taken() -> None:
    assert (lambda p: (p.width, p.height))(pictures.drawn(encoded("PNG", (1280, 640)), "icon")) == (180, 90)
    exif = Image.Exif()
    exif[0x0112] = 6  # turned by a quarter
    turned = pictures.drawn(encoded("JPEG", (60, 20), exif=exif), "logo")
    assert (turned.width, turned.height) == (20, 60)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "none of them"),
        (b"GIF89a not really", "read|none of them"),
        (b"<?xml version='1.0'?><svg onload='alert(1)'/>", "SVG is not taken"),
        (encoded("PNG")[:60], "cannot be read"),
        (encoded("BMP"), "none of them"),
        (encoded("PNG", (5000, 4000)), "at most 16,000,000 pixels"),
        (b"\x89PNG" + b"x" * pictures.MOST_BYTES, "at most 2,000,000 bytes"),
    ],
)
def test_what_is_no_picture_is_refused_with_the_reason(content: bytes, said: str) -> None:
    with pytest.raises(Invalid, match=said) as refused:
        pictures.drawn(content, "logo", "logo")
    assert refused.value.where == "logo"
