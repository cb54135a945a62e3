"""Types of the fields of documents, with the ranges that a reader holds them to; msgspec names the field and the range."""

from __future__ import annotations

from typing import Annotated, get_args

from msgspec import Meta

MAX_SIDE = 1 << 16
# Of a picture, unless a job says more: what claims more is not decoded.
MAX_PIXELS = 1 << 28
MAX_BYTES = 1 << 50

Version = Annotated[int, Meta(ge=1)]
# The longest side of a picture or a rectangle, in pixels.
Side = Annotated[int, Meta(ge=1, le=MAX_SIDE)]
# A place in a picture; rectangles may begin outside of it.
Place = Annotated[int, Meta(ge=-MAX_SIDE, le=MAX_SIDE)]
Count = Annotated[int, Meta(ge=0, le=1 << 40)]
Pixels = Annotated[int, Meta(ge=1, le=1 << 32)]
# A code of a picture of up to 16 bits a channel, or a value of a floating one.
Code = Annotated[float, Meta(ge=-65536, le=65536)]
# Words for people, on one line.
Text = Annotated[str, Meta(max_length=4000, pattern=r"^[^\x00]*\Z")]
Name = Annotated[str, Meta(max_length=200, pattern=r"^[^\x00-\x1f]*\Z")]
# A path below the root, or of the root.
FilePath = Annotated[str, Meta(max_length=4096, pattern=r"^[^\x00]*\Z")]
# A path of what is still to be written: no disk takes names of more than 255 bytes, and endings are added.
NewPath = Annotated[
    str, Meta(min_length=1, max_length=1000, pattern=r"^[^\x00-\x1f/]{1,200}(/[^\x00-\x1f/]{1,200})*\Z")
]


_WORDS = {
    Text: "text without NUL, of at most 4000 characters",
    Name: "a line of at most 200 characters without control characters",
    FilePath: "a path without NUL",
    NewPath: "a path below the root whose parts have 1 to 200 characters, none of them a control character",
}
_IN_WORDS = {f"`str` matching regex {get_args(kind)[1].pattern!r}": words for kind, words in _WORDS.items()}


def fault_in_words(error: Exception) -> str:
    """Return what is wrong with a document as msgspec says it, patterns in words."""
    text = str(error)
    for pattern, words in _IN_WORDS.items():
        text = text.replace(pattern, words)
    return text
