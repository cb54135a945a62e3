"""The mistakes that are planted in the demonstration's pictures, one of each kind that the survey finds."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import ImageCms

from oaktrim.demo.brush import with_grain
from oaktrim.demo.motifs import Pictures

# Drawn smooth, all would use a fraction of their size; those left smooth were "enlarged".
_SMOOTH = ("roof_base", "skin_base", "lantern_base")
_GRAINED = ("base", "orm", "rough", "ao", "occlusion")


def faulty(pictures: Pictures, rng: np.random.Generator) -> Pictures:
    """Return a motif's pictures as they come out of a busy workshop."""
    out: dict[str, NDArray[Any]] = {
        stem: with_grain(rng, pixels) if stem.endswith(_GRAINED) and stem not in _SMOOTH else pixels
        for stem, pixels in pictures.items()
    }
    for stem in out:
        if stem.endswith("boat_base_copy"):
            out[stem] = out["boat_base"]
    if "boots_n" in out:
        # Its green axis points down; those of all others point up.
        out["boots_n"] = np.concatenate(
            [out["boots_n"][..., :1], 255 - out["boots_n"][..., 1:2], out["boots_n"][..., 2:]], 2
        )
    if "badge_n" in out:
        # Brought down as if it were a colour: its vectors are too short.
        out["badge_n"] = (127.5 + (out["badge_n"].astype(np.float32) - 127.5) * 0.8).astype(np.uint8)
    if "water_base" in out:
        out["water_base"] = _with_alpha(out["water_base"], np.full(out["water_base"].shape[:2], 178))
    if "timetable_base" in out:
        # Somebody left a selection in the alpha channel; the material does not look at it.
        board = out["timetable_base"]
        out["timetable_base"] = _with_alpha(
            board, np.broadcast_to(np.linspace(90, 255, board.shape[0])[:, None], board.shape[:2])
        )
    if "foam_mask" in out:
        # Eight bits in a file of sixteen.
        out["foam_height"] = out["foam_mask"].reshape(out["foam_mask"].shape[:2]).astype(np.uint16) * 257
    return out


def _with_alpha(pixels: NDArray[Any], alpha: NDArray[Any]) -> NDArray[Any]:
    return np.concatenate([pixels[..., :3], alpha.astype(np.uint8)[..., None]], axis=2)


def wide_profile() -> bytes:
    """Return a colour profile that does not call itself sRGB."""
    plain = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    return plain.replace("sRGB".encode("utf-16-be"), "Wide".encode("utf-16-be"))
