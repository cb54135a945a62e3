"""Animations and skins of a glTF document."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import AnimationRow, SamplerRow, SkinRow
from oaktrim.core.scene.gltf.reading import Reading
from oaktrim.core.scene.model import Animation, Skin, Track

_PATHS = {"translation": 3, "rotation": 4, "scale": 3}


class MovementReader(Reading):
    """Reads animations and skins."""

    def animations(self) -> Iterator[Animation]:
        for place, row in enumerate(self.root.animations):
            seconds, keys, accessors = 0.0, 0, set[int]()
            for sampler in row.samplers:
                who = f"animation {place} ({row.name[:60]})"
                times = self.attempt(who, lambda s=sampler: self.floats(s.input, 1, "its times"), None)
                accessors.update((sampler.input, sampler.output))
                if times is not None:
                    keys += len(times)
                    seconds = max(seconds, float(times.max()))
            for channel in row.channels:
                if not 0 <= channel.sampler < len(row.samplers):
                    self.note(f"animation {place} names sampler {channel.sampler} and has {len(row.samplers)}")
            tracks = tuple(self._tracks(row, place)) if self.whole else ()
            name = row.name or f"animation {place}"
            yield Animation(name, seconds, len(row.channels), keys, self.stated_bytes(accessors), tracks)

    def _tracks(self, row: AnimationRow, place: int) -> Iterator[Track]:
        who = f"animation {place} ({row.name[:60]})"
        for channel in row.channels:
            target = channel.target if isinstance(channel.target, dict) else {}
            node, path = target.get("node"), target.get("path")
            known = (
                isinstance(node, int) and 0 <= node < len(self.root.nodes) and isinstance(path, str) and path in _PATHS
            )
            if known and 0 <= channel.sampler < len(row.samplers):
                sampler = row.samplers[channel.sampler]
                made = self.attempt(who, lambda s=sampler, n=node, p=path: self._track(s, n, p), None)
                if made is not None:
                    yield made

    def _track(self, sampler: SamplerRow, node: int, path: str) -> Track:
        times, width = self.floats(sampler.input, 1, "its times")[:, 0], _PATHS[path]
        values = self.floats(sampler.output, width, f"its {path}")
        if sampler.interpolation == "CUBICSPLINE":
            values = values.reshape(-1, 3, width)
        if len(values) != len(times) or np.any(np.diff(times) < 0):
            raise self.document.fault(f"its {path} has {len(values)} values for {len(times)} times, or these go back")
        return Track(node, path, times, values, str(sampler.interpolation))

    def skins(self) -> Iterator[Skin]:
        for place, row in enumerate(self.root.skins):
            nodes = tuple(row.joints)
            if not self.whole:
                yield Skin(row.name, nodes)
                continue
            matrices = self.attempt(f"skin {place}", lambda row=row: self._inverse_bind(row), None)
            yield Skin(row.name, nodes, matrices)

    def _inverse_bind(self, row: SkinRow) -> NDArray[np.float64]:
        if any(not 0 <= joint < len(self.root.nodes) for joint in row.joints):
            raise self.document.fault("it names a joint that is not there")
        if row.inverse_bind_matrices is None:
            return np.tile(np.eye(4), (len(row.joints), 1, 1))
        values = self.floats(row.inverse_bind_matrices, 16, "its inverse bind matrices").astype(np.float64)
        if len(values) < len(row.joints):
            raise self.document.fault(f"it has {len(row.joints)} joints and {len(values)} matrices")
        return values[: len(row.joints)].reshape(-1, 4, 4).transpose(0, 2, 1)
