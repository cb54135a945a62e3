"""Numbers as people read them: bytes as KiB and MiB with three significant digits, limits in the unit they are stated in."""

from __future__ import annotations

from math import isinf

_BINARY = ("B", "KiB", "MiB", "GiB", "TiB")


def three_digits(value: float) -> str:
    """Return a number with three significant digits and no exponent."""
    if abs(value) >= 99.95:
        return f"{value:,.0f}"
    return f"{value:.1f}" if abs(value) >= 9.995 else f"{value:.2f}"


def bytes_text(count: int) -> str:
    """Return bytes in the largest binary unit that leaves at least one, with three significant digits."""
    value, unit = float(count), 0
    while abs(value) >= 1023.5 and unit < len(_BINARY) - 1:
        value, unit = value / 1024, unit + 1
    return f"{count} B" if unit == 0 else f"{three_digits(value)} {_BINARY[unit]}"


def change_text(change: int, about: bool = False, gain: str = "+") -> str:
    """Return a change in bytes with its sign, such as "−16.5 KiB", "about −16.5 KiB" where it is estimated.

    Parameters
    ----------
    gain : the sign of what grows; empty where only what shrinks is marked
    """
    sign = "−" if change < 0 else gain
    return f"{'about ' if about else ''}{sign}{bytes_text(abs(change))}"


def bytes_like(count: int, stated: str) -> str:
    """Return bytes in the unit that a limit is stated in, such as "40 MB"."""
    unit = stated.strip().split()[-1] if " " in stated.strip() else ""
    decimal = {"kB": 10**3, "MB": 10**6, "GB": 10**9}
    return f"{three_digits(count / decimal[unit])} {unit}" if unit in decimal else bytes_text(count)


def bytes_beside(count: int, stated: str, beside: str) -> str:
    """Return bytes as `bytes_like` does, without the unit where the text that they stand beside has the same."""
    number, _, unit = bytes_like(count, stated).partition(" ")
    return number if unit == beside.rsplit(maxsplit=1)[-1] else f"{number} {unit}"


def counted(number: int, what: str) -> str:
    """Return a number of things, such as "1 texture" or "4,800 textures"."""
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def decibels_text(value: float | None) -> str:
    """Return a PSNR for people; none and infinity are exact."""
    return "exact" if value is None or isinf(value) else f"{value:.1f} dB"


def rate_text(rate: int, channels: int) -> str:
    """Return a sound's rate and channels, such as "44.1 kHz stereo"."""
    return f"{rate / 1000:g} kHz {({1: 'mono', 2: 'stereo'}).get(channels, f'{channels} channels')}"


def size_of(text: str) -> tuple[int, int]:
    """Return width and height of a text such as "1920x1080".

    Raises
    ------
    ValueError : it is no such text, or a side is not 1 to 16384
    """
    try:
        width, height = (int(part) for part in text.lower().replace(",", "x").replace("×", "x").split("x"))
    except ValueError as error:
        raise ValueError(f"{text!r} is no size in pixels such as 1920x1080") from error
    if not (1 <= width <= 1 << 14 and 1 <= height <= 1 << 14):
        raise ValueError(f"a screen is 1 to {1 << 14} pixels each way, not {text}")
    return width, height


def point_of(text: str) -> tuple[float, float, float]:
    """Return the three numbers of a text such as "1, 2.5, -3".

    Raises
    ------
    ValueError : it is no such text
    """
    try:
        x, y, z = (float(part) for part in text.replace(";", ",").split(","))
    except ValueError as error:
        raise ValueError(f"{text!r} is not three numbers X,Y,Z") from error
    return x, y, z


def size_text(width: int, height: int) -> str:
    """Return a size in pixels; a square is written once."""
    return f"{width}²" if width == height else f"{width}×{height}"
