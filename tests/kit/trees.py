"""Made-up trees of pictures, surveyed and planned."""

from __future__ import annotations

from dataclasses import fields
from pathlib import Path

import numpy as np
from PIL import Image as PillowImage

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.progress import finish
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import Target, target_named
from tests.kit.pictures import busy


def put(
    root: Path, name: str, pixels: np.ndarray | None = None, size: tuple[int, int] = (64, 64), channels: int = 3
) -> Path:
    """Write a picture below a root and return its path."""
    path = root / name
    path.parent.mkdir(parents=True, exist_ok=True)
    if pixels is None:
        seed = sum(name.encode())
        pixels = busy(*size, channels, seed=seed).pixels
    PillowImage.fromarray(pixels[..., 0] if pixels.ndim == 3 and pixels.shape[2] == 1 else pixels).save(path)
    return path


def surveyed(root: Path, **settings) -> Inventory:
    """Return what a survey finds, without a cache."""
    return finish(scan(root, **settings))


def write_model(root: Path, name: str, writer: GltfWriter) -> Path:
    """Write a model below a root, whole in one file, and return its path."""
    path = root / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(writer.glb())
    return path


def planned(root: Path, target: str | Target, *cuts: Cut) -> Plan:
    """Return the plan of a tree for a target."""
    return resolve(surveyed(root), target if isinstance(target, Target) else target_named(target), cuts)


def found(root: Path, target: str) -> dict[str, list[str]]:
    """Return the codes of the findings on a target, by path."""
    out: dict[str, list[str]] = {}
    for finding in findings_of(planned(root, target)):
        out.setdefault(finding.path, []).append(finding.code)
    return out


def parts(inventory: Inventory) -> dict[str, object]:
    """Return all that an inventory holds by field, for comparison: inventories themselves are told apart by identity."""
    return {field.name: getattr(inventory, field.name) for field in fields(inventory) if field.compare}
