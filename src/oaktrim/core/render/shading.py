"""One tile of a picture: which triangles its samples show, and what light comes from there.

Ids and depth are rasterised first; each pixel is then shaded once for each triangle that its samples show, where these lie on
average. What lets light through is laid over that from back to front.
"""

from __future__ import annotations

import numpy as np

from oaktrim.core.kernels import njit
from oaktrim.core.render.lighting import shade
from oaktrim.core.render.rasterize import (
    EMPTY,
    KERNEL,
    ONE,
    TILE_HIGH,
    TILE_WIDE,
    depth_plane,
    fill_span,
    span,
    weights_of,
    word_of,
)
from oaktrim.core.render.textures import FAST, sample, within

# Columns of a row of material numbers, float32: base colour, metalness, roughness, emission, scale of normals, strength of
# occlusion, cut-off; then for each of the five slots a 2x3 matrix of its UVs.
BASE, METAL, ROUGH, GLOW, BUMP, SHADE, CUTOFF, MATRIX = 0, 4, 5, 6, 9, 10, 11, 12
NUMBERS = MATRIX + 5 * 6
# Columns of a row of material choices, int32: alpha mode, both sides, unlit, then for each slot its texture (-1 for none) and UVs.
MODE, BOTH, UNLIT, TEXTURE = 0, 1, 2, 3
CHOICES = TEXTURE + 2 * 5
OPAQUE, MASK, BLEND = 0, 1, 2
# Of base colour, metal and roughness, normal, occlusion, emission.
_BASE, _ORM, _NORMAL, _SHADE, _GLOW = 0, 1, 2, 3, 4
_ONE, _ZERO, _HALF = np.float32(1), np.float32(0), np.float32(0.5)
_FAR = np.float32(1e30)


# What is called for each pixel takes whole arrays and gives numbers: views of arrays are counted in and out, which costs more
# than what is read through them.


@njit(**FAST)
def _uv_planes(planes, triangles, t, attributes, of, out):
    """Fill out[of] (3, 3) so that q, u q and v q of a set of UVs are out[of, k] @ (x, y, 1) at a place in the tile."""
    column = 7 + 2 * of
    for c in range(3):
        q, u, v = _ZERO, _ZERO, _ZERO
        for k in range(3):
            weight = planes[k, c]
            q += weight
            u += weight * attributes[triangles[t, k], column]
            v += weight * attributes[triangles[t, k], column + 1]
        out[of, 0, c], out[of, 1, c], out[of, 2, c] = q, u, v


@njit(**FAST)
def _uv(planes, of, x, y):
    """Return u, v and their derivatives by x and y, at a place in the tile: u, v, du/dx, dv/dx, du/dy, dv/dy.

    Analytic: with q = 1 / w, d(u) = (d(u q) - u d(q)) / q (OpenGL 4.6 core, clause 8.14.1, in the form of Heckbert 1989).
    """
    qx, qy = planes[of, 0, 0], planes[of, 0, 1]
    ux, uy, vx, vy = planes[of, 1, 0], planes[of, 1, 1], planes[of, 2, 0], planes[of, 2, 1]
    inverse = _ONE / (qx * x + qy * y + planes[of, 0, 2])
    u = (ux * x + uy * y + planes[of, 1, 2]) * inverse
    v = (vx * x + vy * y + planes[of, 2, 2]) * inverse
    return u, v, (ux - u * qx) * inverse, (vx - v * qx) * inverse, (uy - u * qy) * inverse, (vy - v * qy) * inverse


@njit(**FAST)
def _read(texels, rows, numbers, choices, material, slot, uv_planes, x, y, anisotropy):
    """Return red, green, blue and alpha of a slot's texture at a place in the tile; white without one."""
    texture = choices[material, TEXTURE + 2 * slot]
    if texture < 0:
        return _ONE, _ONE, _ONE, _ONE
    u, v, ux, vx, uy, vy = _uv(uv_planes, choices[material, TEXTURE + 2 * slot + 1], x, y)
    at = MATRIX + 6 * slot
    a, b, c = numbers[material, at], numbers[material, at + 1], numbers[material, at + 2]
    d, e, f = numbers[material, at + 3], numbers[material, at + 4], numbers[material, at + 5]
    return sample(
        texels, rows, texture, a * u + b * v + c, d * u + e * v + f, a * ux + b * vx, d * ux + e * vx, a * uy + b * vy,
        d * uy + e * vy, anisotropy,
    )  # fmt: skip


@njit(**FAST)
def _local_planes(clip, triangles, t, width, height, left, top, wide, planes):
    """Fill planes (3, 3) float32 with the weights of a triangle's corners, from the tile's corner; False without area."""
    if not weights_of(clip, triangles, t, width, height, wide):
        return False
    # Weights of corners are proportions: a common scale keeps them in the range of float32.
    largest = 0.0
    for k in range(3):
        wide[k, 2] += wide[k, 0] * left + wide[k, 1] * top
        largest = max(largest, abs(wide[k, 0]) * TILE_WIDE + abs(wide[k, 1]) * TILE_HIGH + abs(wide[k, 2]))
    if not largest > 0.0:
        return False
    for k in range(3):
        for c in range(3):
            planes[k, c] = np.float32(wide[k, c] / largest)
    return True


@njit(**FAST)
def _surface(
    t, x, y, planes, positions, attributes, triangles, materials, numbers, choices, texels, rows, anisotropy, eye, flat,
    lights, sky, base, lit, uv_planes, out,
):  # fmt: skip
    """Fill out (8,) with light (3), alpha, the normal (3) and the level of base colour that is wanted; of a point of a triangle."""
    material = materials[t]
    q = _ZERO
    px = py = pz = nx = ny = nz = _ZERO
    cr = cg = cb = ca = _ZERO
    for k in range(3):
        weight = planes[k, 0] * x + planes[k, 1] * y + planes[k, 2]
        v = triangles[t, k]
        q += weight
        px += weight * positions[v, 0]
        py += weight * positions[v, 1]
        pz += weight * positions[v, 2]
        nx += weight * attributes[v, 0]
        ny += weight * attributes[v, 1]
        nz += weight * attributes[v, 2]
        cr += weight * attributes[v, 11]
        cg += weight * attributes[v, 12]
        cb += weight * attributes[v, 13]
        ca += weight * attributes[v, 14]
    inverse = _ONE / q
    px, py, pz = px * inverse, py * inverse, pz * inverse
    cr, cg, cb, ca = cr * inverse, cg * inverse, cb * inverse, ca * inverse
    vx, vy, vz = eye[0] - px, eye[1] - py, eye[2] - pz
    if flat:
        vx, vy, vz = eye[3], eye[4], eye[5]
    scale = _ONE / np.sqrt(max(vx * vx + vy * vy + vz * vz, np.float32(1e-30)))
    vx, vy, vz = vx * scale, vy * scale, vz * scale
    # The side that is seen is told by the triangle itself: interpolated normals may lean away at its rim.
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    e1x, e1y, e1z = (
        positions[b, 0] - positions[a, 0],
        positions[b, 1] - positions[a, 1],
        positions[b, 2] - positions[a, 2],
    )
    e2x, e2y, e2z = (
        positions[c, 0] - positions[a, 0],
        positions[c, 1] - positions[a, 1],
        positions[c, 2] - positions[a, 2],
    )
    gx, gy, gz = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    side = _ONE if gx * vx + gy * vy + gz * vz >= _ZERO else -_ONE
    # The weights' common sign is that of the side.
    length = nx * nx + ny * ny + nz * nz
    if length > np.float32(1e-20):
        scale = _ONE / np.sqrt(length)
        if q < _ZERO:
            scale = -scale
    else:
        nx, ny, nz = gx, gy, gz
        scale = _ONE / np.sqrt(max(gx * gx + gy * gy + gz * gz, np.float32(1e-30)))
    nx, ny, nz = nx * scale * side, ny * scale * side, nz * scale * side
    if material < 0:
        base[0], base[1], base[2] = np.float32(0.55), np.float32(0.55), np.float32(0.55)
        shade(base, _ZERO, np.float32(0.6), _ONE, nx, ny, nz, vx, vy, vz, px, py, pz, lights, sky, lit)
        out[0], out[1], out[2], out[3] = lit[0], lit[1], lit[2], _ONE
        out[4], out[5], out[6] = nx, ny, nz
        return
    br, bg, bb, ba = _read(texels, rows, numbers, choices, material, _BASE, uv_planes, x, y, anisotropy)
    base[0] = br * numbers[material, BASE] * cr
    base[1] = bg * numbers[material, BASE + 1] * cg
    base[2] = bb * numbers[material, BASE + 2] * cb
    alpha = ba * numbers[material, BASE + 3] * ca
    out[3] = within(alpha, _ZERO, _ONE) if choices[material, MODE] == BLEND else _ONE
    if choices[material, UNLIT]:
        out[0], out[1], out[2] = base[0], base[1], base[2]
        out[4], out[5], out[6] = nx, ny, nz
        return
    if choices[material, TEXTURE + 2 * _NORMAL] >= 0:
        tx = ty = tz = tw = _ZERO
        for k in range(3):
            weight = (planes[k, 0] * x + planes[k, 1] * y + planes[k, 2]) * inverse
            v = triangles[t, k]
            tx += weight * attributes[v, 3]
            ty += weight * attributes[v, 4]
            tz += weight * attributes[v, 5]
            tw += weight * attributes[v, 6]
        mr, mg, mb, _ = _read(texels, rows, numbers, choices, material, _NORMAL, uv_planes, x, y, anisotropy)
        bump = numbers[material, BUMP]
        mx, my, mz = (mr * np.float32(2) - _ONE) * bump, (mg * np.float32(2) - _ONE) * bump, mb * np.float32(2) - _ONE
        handed = _ONE if tw >= _ZERO else -_ONE
        # The vertex normal, not turned to the eye, spans the tangent frame.
        ux, uy, uz = nx * side, ny * side, nz * side
        wx, wy, wz = (uy * tz - uz * ty) * handed, (uz * tx - ux * tz) * handed, (ux * ty - uy * tx) * handed
        rx = (tx * mx + wx * my + ux * mz) * side
        ry = (ty * mx + wy * my + uy * mz) * side
        rz = (tz * mx + wz * my + uz * mz) * side
        length = rx * rx + ry * ry + rz * rz
        if length > np.float32(1e-12):
            scale = _ONE / np.sqrt(length)
            nx, ny, nz = rx * scale, ry * scale, rz * scale
    _, og, ob, _ = _read(texels, rows, numbers, choices, material, _ORM, uv_planes, x, y, anisotropy)
    rough = within(og * numbers[material, ROUGH], np.float32(0.03), _ONE)
    metal = within(ob * numbers[material, METAL], _ZERO, _ONE)
    occlusion, _, _, _ = _read(texels, rows, numbers, choices, material, _SHADE, uv_planes, x, y, anisotropy)
    occlusion = _ONE + numbers[material, SHADE] * (occlusion - _ONE)
    shade(base, metal, rough, occlusion, nx, ny, nz, vx, vy, vz, px, py, pz, lights, sky, lit)
    er, eg, eb, _ = _read(texels, rows, numbers, choices, material, _GLOW, uv_planes, x, y, anisotropy)
    out[0] = lit[0] + er * numbers[material, GLOW]
    out[1] = lit[1] + eg * numbers[material, GLOW + 1]
    out[2] = lit[2] + eb * numbers[material, GLOW + 2]
    out[4], out[5], out[6] = nx, ny, nz


@njit(**FAST)
def _is_there(t, x, y, planes, attributes, triangles, materials, numbers, choices, texels, rows, uv_planes):
    """Say whether a masked material is there at a place."""
    material = materials[t]
    _, _, _, alpha = _read(texels, rows, numbers, choices, material, _BASE, uv_planes, x, y, 1)
    q, ca = _ZERO, _ZERO
    for k in range(3):
        weight = planes[k, 0] * x + planes[k, 1] * y + planes[k, 2]
        q += weight
        ca += weight * attributes[triangles[t, k], 14]
    return alpha * numbers[material, BASE + 3] * ca / q >= numbers[material, CUTOFF]


@njit(**KERNEL)
def rasterize_tile(
    tile_x, tile_y, pieces, corners, owners, clip, triangles, materials, attributes, numbers, choices, texels, rows,
    width, height, offsets, words, uv_planes,
):  # fmt: skip
    """Fill words (S, TILE_HIGH, TILE_WIDE) uint64 with what each sample shows; what lets light through is left out.

    Parameters
    ----------
    pieces : of the tile; offsets : (S, 2) int64 of samples in their pixel, in 256ths
    """
    left, top = tile_x * TILE_WIDE, tile_y * TILE_HIGH
    right, bottom = min(width, left + TILE_WIDE), min(height, top + TILE_HIGH)
    plane, wide, planes = np.empty(3), np.empty((3, 3)), np.empty((3, 3), np.float32)
    words[:] = EMPTY
    masks = 0
    # What is masked comes last: most of it is hidden then, and need not be looked at.
    for i in range(2 * pieces.shape[0]):
        masked = i >= pieces.shape[0]
        if masked and masks == 0:
            break
        p = pieces[i - pieces.shape[0]] if masked else pieces[i]
        t = owners[p]
        material = materials[t]
        mode = choices[material, MODE] if material >= 0 else OPAQUE
        masks += mode == MASK and not masked
        if mode == BLEND or (mode == MASK) != masked or not depth_plane(clip, triangles, t, width, height, plane, wide):
            continue
        if masked:
            if not _local_planes(clip, triangles, t, width, height, left, top, wide, planes):
                continue
            _uv_planes(planes, triangles, t, attributes, choices[material, TEXTURE + 1], uv_planes)
        y0 = max(top, min(corners[p, 1], corners[p, 3], corners[p, 5]) // ONE - 1)
        y1 = min(bottom, max(corners[p, 1], corners[p, 3], corners[p, 5]) // ONE + 1)
        for s in range(offsets.shape[0]):
            sx, sy = offsets[s, 0], offsets[s, 1]
            ox, oy = sx / ONE, sy / ONE
            for y in range(y0, y1):
                low, high = span(corners, p, y * ONE + sy, left, right, sx)
                if low >= high:
                    continue
                if not masked:
                    fill_span(plane, low + ox, y + oy, t, words, s, y - top, low - left, high - left)
                    continue
                depth = plane[0] * (low + ox) + plane[1] * (y + oy) + plane[2]
                for x in range(low, high):
                    word = word_of(depth, t)
                    depth += plane[0]
                    if word < words[s, y - top, x - left]:
                        if not _is_there(
                            t, np.float32(x - left + ox), np.float32(y - top + oy), planes, attributes, triangles, materials,
                            numbers, choices, texels, rows, uv_planes,
                        ):  # fmt: skip
                            continue
                        words[s, y - top, x - left] = word


@njit(**KERNEL)
def shade_tiles(
    first, last, across, bins, starts, corners, owners, clip, positions, triangles, materials, attributes, numbers, choices,
    texels, rows, width, height, offsets, anisotropy, eye, flat, lights, sky, background, colour, ids, depths, normals,
):  # fmt: skip
    """Fill colour (H, W, 4), premultiplied linear light, of tiles [first, last); with ids (H, W), depths and normals (H, W, 3).

    Parameters
    ----------
    eye : (6,) where the camera stands, and the direction to it; flat : all directions to it are the latter
    background : (4,) what is behind everything
    ids : of the first sample's triangle, -1 for none; arrays of no size are not filled
    """
    count = offsets.shape[0]
    words = np.empty((count, TILE_HIGH, TILE_WIDE), np.uint64)
    base, lit, uv_planes = np.empty(3, np.float32), np.empty(3, np.float32), np.empty((2, 3, 3), np.float32)
    wide, planes, out = np.empty((3, 3)), np.empty((3, 3), np.float32), np.empty(8, np.float32)
    shown = np.empty(count, np.int64)
    share = _ONE / np.float32(count)
    for tile in range(first, last):
        tile_x, tile_y = tile % across, tile // across
        left, top = tile_x * TILE_WIDE, tile_y * TILE_HIGH
        right, bottom = min(width, left + TILE_WIDE), min(height, top + TILE_HIGH)
        pieces = bins[starts[tile] : starts[tile + 1]]
        rasterize_tile(
            tile_x, tile_y, pieces, corners, owners, clip, triangles, materials, attributes, numbers, choices, texels, rows,
            width, height, offsets, words, uv_planes,
        )  # fmt: skip
        present = np.int64(-1)
        sound = False
        for y in range(top, bottom):
            for x in range(left, right):
                red = green = blue = alpha = _ZERO
                for s in range(count):
                    word = words[s, y - top, x - left]
                    shown[s] = -1 if word == EMPTY else np.int64(word & np.uint64(0xFFFFFFFF))
                if ids.shape[0]:
                    ids[y, x] = shown[0]
                if depths.shape[0]:
                    word = words[0, y - top, x - left]
                    depths[y, x] = 1.0 if word == EMPTY else np.float64(word >> np.uint64(32)) / 4294967295.0
                for s in range(count):
                    t = shown[s]
                    if t == -2:
                        continue
                    if t < 0:
                        red += background[0] * share
                        green += background[1] * share
                        blue += background[2] * share
                        alpha += background[3] * share
                        continue
                    # All samples of one triangle are shaded at once, where they lie on average.
                    many, mx, my = 0, 0.0, 0.0
                    for o in range(s, count):
                        if shown[o] == t:
                            many += 1
                            mx += offsets[o, 0]
                            my += offsets[o, 1]
                            shown[o] = -2
                    if t != present:
                        present = t
                        sound = _local_planes(clip, triangles, t, width, height, left, top, wide, planes)
                        for of in range(2):
                            _uv_planes(planes, triangles, t, attributes, of, uv_planes)
                    if not sound:
                        continue
                    _surface(
                        t, np.float32(x - left + mx / (many * ONE)), np.float32(y - top + my / (many * ONE)), planes, positions,
                        attributes, triangles, materials, numbers, choices, texels, rows, anisotropy, eye, flat, lights, sky,
                        base, lit, uv_planes, out,
                    )  # fmt: skip
                    part = share * np.float32(many)
                    red += within(out[0], _ZERO, _FAR) * part
                    green += within(out[1], _ZERO, _FAR) * part
                    blue += within(out[2], _ZERO, _FAR) * part
                    alpha += part
                    if s == 0 and normals.shape[0]:
                        for c in range(3):
                            normals[y, x, c] = within(out[4 + c], -_ONE, _ONE)
                colour[y, x, 0], colour[y, x, 1], colour[y, x, 2], colour[y, x, 3] = red, green, blue, alpha
        _blend_tile(
            tile_x, tile_y, pieces, corners, owners, clip, positions, triangles, materials, attributes, numbers, choices,
            texels, rows, width, height, offsets, anisotropy, eye, flat, lights, sky, words, base, lit,
            uv_planes, wide, planes, out, colour,
        )  # fmt: skip


@njit(**KERNEL)
def _blend_tile(
    tile_x, tile_y, pieces, corners, owners, clip, positions, triangles, materials, attributes, numbers, choices, texels, rows,
    width, height, offsets, anisotropy, eye, flat, lights, sky, words, base, lit, uv_planes, wide, planes, out, colour,
):  # fmt: skip
    """Lay what lets light through over a tile, from back to front by the mean distance of its triangles."""
    many = 0
    for i in range(pieces.shape[0]):
        material = materials[owners[pieces[i]]]
        if material >= 0 and choices[material, MODE] == BLEND:
            many += 1
    if many == 0:
        return
    mine, keys = np.empty(many, np.int64), np.empty(many)
    at = 0
    for i in range(pieces.shape[0]):
        t = owners[pieces[i]]
        if materials[t] >= 0 and choices[materials[t], MODE] == BLEND:
            mine[at] = pieces[i]
            keys[at] = -(clip[triangles[t, 0], 3] + clip[triangles[t, 1], 3] + clip[triangles[t, 2], 3])
            at += 1
    order = np.argsort(keys, kind="mergesort")
    left, top = tile_x * TILE_WIDE, tile_y * TILE_HIGH
    right, bottom = min(width, left + TILE_WIDE), min(height, top + TILE_HIGH)
    count = offsets.shape[0]
    covered = np.zeros((TILE_HIGH, TILE_WIDE), np.int64)
    plane = np.empty(3)
    for k in range(many):
        p = mine[order[k]]
        t = owners[p]
        if not depth_plane(clip, triangles, t, width, height, plane, wide):
            continue
        if not _local_planes(clip, triangles, t, width, height, left, top, wide, planes):
            continue
        for of in range(2):
            _uv_planes(planes, triangles, t, attributes, of, uv_planes)
        y0 = max(top, min(corners[p, 1], corners[p, 3], corners[p, 5]) // ONE - 1)
        y1 = min(bottom, max(corners[p, 1], corners[p, 3], corners[p, 5]) // ONE + 1)
        x0, x1 = right, left
        for s in range(count):
            sx, sy = offsets[s, 0], offsets[s, 1]
            for y in range(y0, y1):
                low, high = span(corners, p, y * ONE + sy, left, right, sx)
                x0, x1 = min(x0, low if low < high else x0), max(x1, high)
                depth = plane[0] * (low + sx / ONE) + plane[1] * (y + sy / ONE) + plane[2]
                for x in range(low, high):
                    if word_of(depth, t) < words[s, y - top, x - left]:
                        covered[y - top, x - left] += 1
                    depth += plane[0]
        for y in range(y0, y1):
            for x in range(x0, x1):
                samples = covered[y - top, x - left]
                if samples == 0:
                    continue
                covered[y - top, x - left] = 0
                _surface(
                    t, np.float32(x - left) + _HALF, np.float32(y - top) + _HALF, planes, positions, attributes, triangles,
                    materials, numbers, choices, texels, rows, anisotropy, eye, flat, lights, sky, base, lit, uv_planes, out,
                )  # fmt: skip
                part = out[3] * np.float32(samples) / np.float32(count)
                for c in range(3):
                    colour[y, x, c] = within(out[c], _ZERO, _FAR) * part + colour[y, x, c] * (_ONE - part)
                colour[y, x, 3] = part + colour[y, x, 3] * (_ONE - part)


@njit(**KERNEL)
def footprints_of_tiles(
    first, last, across, bins, starts, corners, owners, clip, triangles, materials, attributes, numbers, choices, texels, rows,
    width, height, offsets, ids, uvs,
):  # fmt: skip
    """Fill ids (H, W), -1 for none, and uvs (H, W, 2, 6): both UVs and their derivatives by x and y, of tiles [first, last)."""
    words = np.empty((1, TILE_HIGH, TILE_WIDE), np.uint64)
    uv_planes = np.empty((2, 3, 3), np.float32)
    wide, planes = np.empty((3, 3)), np.empty((3, 3), np.float32)
    for tile in range(first, last):
        tile_x, tile_y = tile % across, tile // across
        left, top = tile_x * TILE_WIDE, tile_y * TILE_HIGH
        right, bottom = min(width, left + TILE_WIDE), min(height, top + TILE_HIGH)
        pieces = bins[starts[tile] : starts[tile + 1]]
        rasterize_tile(
            tile_x, tile_y, pieces, corners, owners, clip, triangles, materials, attributes, numbers, choices, texels, rows,
            width, height, offsets[:1], words, uv_planes,
        )  # fmt: skip
        present = np.int64(-1)
        sound = False
        ox, oy = np.float32(offsets[0, 0] / ONE), np.float32(offsets[0, 1] / ONE)
        for y in range(top, bottom):
            for x in range(left, right):
                word = words[0, y - top, x - left]
                if word == EMPTY:
                    ids[y, x] = -1
                    continue
                t = np.int64(word & np.uint64(0xFFFFFFFF))
                ids[y, x] = t
                if t != present:
                    present = t
                    sound = _local_planes(clip, triangles, t, width, height, left, top, wide, planes)
                    for of in range(2):
                        _uv_planes(planes, triangles, t, attributes, of, uv_planes)
                if sound:
                    for of in range(2):
                        u, v, ux, vx, uy, vy = _uv(uv_planes, of, np.float32(x - left) + ox, np.float32(y - top) + oy)
                        uvs[y, x, of, 0], uvs[y, x, of, 1], uvs[y, x, of, 2] = u, v, ux
                        uvs[y, x, of, 3], uvs[y, x, of, 4], uvs[y, x, of, 5] = vx, uy, vy
