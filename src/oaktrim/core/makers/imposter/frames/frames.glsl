// View frames: a thing drawn on one quad from the frames that it was baked to. The JSON beside the sheets says what the uniforms are.
// STEPS: 0 reads frames where a ray meets the plane through the centre, 1 and 2 correct that by the depth found, -1 marches.
// NEAREST: only the frame nearest to the eye is read, and not the three around it.
#ifndef STEPS
#define STEPS @STEPS@
#endif
#ifndef NEAREST
#define NEAREST 0
#endif

uniform sampler2D frames_base;      // colour as sRGB, alpha straight
uniform sampler2D frames_depth;     // 1 half a frame towards the eye, 0 as far behind the centre
uniform vec3 frames_centre;         // of the thing, in its own space
uniform float frames_extent;        // half a frame, in the thing's units
uniform vec4 frames_grid;           // columns, rows, texels to a side of a frame, last level of the sheets
uniform vec2 frames_rise;           // elevation of a ring's lowest and of its highest row, radians
uniform vec2 frames_turn;           // where a ring's first column stands, and how far its columns go, radians
uniform int frames_kind;            // 0 ring, 1 sphere, 2 dome

const float frames_residual = @RESIDUAL@, frames_sure = @SURE@, frames_trust = @TRUST@, frames_shell = @SHELL@;

// A ring goes all round, so that its first frame follows its last.
bool frames_closed() { return frames_kind == 0 && frames_turn.y > 6.2831; }

// How far a ring turns from a column to the next.
float frames_stride() { return frames_turn.y / (frames_closed() ? frames_grid.x : frames_grid.x - 1.0); }

// The direction that a frame is seen from.
vec3 frames_direction(vec2 cell) {
    if (frames_kind == 0) {
        float turn = frames_turn.x + frames_stride() * cell.x;
        float part = frames_grid.y > 1.0 ? cell.y / (frames_grid.y - 1.0) : 0.0;
        float lift = mix(frames_rise.x, frames_rise.y, part);
        return vec3(sin(turn) * cos(lift), sin(lift), cos(turn) * cos(lift));
    }
    vec2 p = cell / (frames_grid.xy - 1.0) * 2.0 - 1.0;
    if (frames_kind == 2) p = vec2(p.x + p.y, p.x - p.y) * 0.5;
    float y = 1.0 - abs(p.x) - abs(p.y);
    if (y < 0.0) p = (1.0 - abs(p.yx)) * vec2(p.x >= 0.0 ? 1.0 : -1.0, p.y >= 0.0 ? 1.0 : -1.0);
    return normalize(vec3(p.x, y, p.y));
}

// Where a direction lies among the frames, in columns and rows; below the horizon of a dome, at its rim.
vec2 frames_place(vec3 way) {
    vec3 d = normalize(way);
    if (frames_kind == 0) {
        float away = mod(atan(d.x, d.z) - frames_turn.x, 6.283185307179586);
        // Out of the sector, the nearer of its ends.
        if (!frames_closed() && away > frames_turn.y)
            away = away - frames_turn.y < 6.283185307179586 - away ? frames_turn.y : 0.0;
        float span = frames_rise.y - frames_rise.x;
        float part = span > 0.0 ? clamp((atan(d.y, length(d.xz)) - frames_rise.x) / span, 0.0, 1.0) : 0.0;
        return vec2(away / frames_stride(), part * (frames_grid.y - 1.0));
    }
    if (frames_kind == 2) d.y = max(d.y, 0.0);
    vec2 p = d.xz / max(abs(d.x) + abs(d.y) + abs(d.z), 1e-30);
    if (frames_kind == 2) p = vec2(p.x + p.y, p.x - p.y);
    else if (d.y < 0.0) p = (1.0 - abs(p.yx)) * vec2(p.x >= 0.0 ? 1.0 : -1.0, p.y >= 0.0 ? 1.0 : -1.0);
    return (p + 1.0) * 0.5 * (frames_grid.xy - 1.0);
}

// The three frames around a direction, and their weights.
void frames_around(vec3 way, out vec2 cells[3], out vec3 weights) {
    vec2 place = frames_place(way);
    vec2 first = floor(place);
    if (!frames_closed()) first.x = min(first.x, frames_grid.x - 2.0);
    first.y = min(first.y, max(0.0, frames_grid.y - 2.0));
    vec2 f = place - first;
    if (f.x + f.y <= 1.0) {
        cells[0] = first; cells[1] = first + vec2(1.0, 0.0); cells[2] = first + vec2(0.0, 1.0);
        weights = vec3(1.0 - f.x - f.y, f.x, f.y);
    } else {
        cells[0] = first + vec2(1.0, 1.0); cells[1] = first + vec2(0.0, 1.0); cells[2] = first + vec2(1.0, 0.0);
        weights = vec3(f.x + f.y - 1.0, 1.0 - f.x, 1.0 - f.y);
    }
    for (int k = 0; k < 3; k++) {
        if (frames_closed()) cells[k].x = mod(cells[k].x, frames_grid.x);
        cells[k].y = min(cells[k].y, frames_grid.y - 1.0);
    }
#if NEAREST
    float most = max(weights.x, max(weights.y, weights.z));
    if (weights.x == most) weights = vec3(1.0, 0.0, 0.0);
    else if (weights.y == most) weights = vec3(0.0, 1.0, 0.0);
    else weights = vec3(0.0, 0.0, 1.0);
#endif
}

// Columns: to the right and up on a frame, and to where it is seen from.
mat3 frames_axes(vec3 direction) {
    vec3 right = vec3(direction.z, 0.0, -direction.x);
    float size = length(right);
    right = size > 1e-4 ? right / size : vec3(1.0, 0.0, 0.0);
    return mat3(right, cross(direction, right), direction);
}

// Where a place of a frame (0 to 1 from its upper left) lies on the sheet at a level, never nearer to its border than half a texel.
vec2 frames_on_sheet(vec2 cell, vec2 uv, float level) {
    float margin = 0.5 * exp2(ceil(level)) / frames_grid.z;
    return (cell + clamp(uv, margin, 1.0 - margin)) / frames_grid.xy;
}

float frames_height(vec2 cell, vec2 uv, float level) {
    return textureLod(frames_depth, frames_on_sheet(cell, uv, level), level).r * 2.0 - 1.0;
}

// Where a ray meets a frame: u, v and how far depth disagrees; false where it does not. All from the centre, in halves of a frame.
bool frames_met(vec3 from, vec3 way, mat3 axes, vec2 cell, float level, float enter, float leave, out vec3 where) {
    vec3 o = vec3(dot(from, axes[0]), dot(from, axes[1]), dot(from, axes[2]));
    vec3 w = vec3(dot(way, axes[0]), dot(way, axes[1]), dot(way, axes[2]));
    where = vec3(0.0);
#if STEPS >= 0
    if (abs(w.z) < 1e-3) return false;
    float height = 0.0;
    for (int step = 0; step <= STEPS; step++) {
        float t = (height - o.z) / w.z;
        where.xy = vec2(0.5 + 0.5 * (o.x + w.x * t), 0.5 - 0.5 * (o.y + w.y * t));
#if STEPS > 0
        float found = frames_height(cell, where.xy, level);
        where.z = abs(found - height);
        height = found;
#endif
    }
    return all(greaterThanEqual(where.xy, vec2(0.0))) && all(lessThanEqual(where.xy, vec2(1.0)));
#else
    float stride = (leave - enter) / 24.0;
    for (int step = 0; step < 24; step++) {
        float t = enter + stride * float(step + 1);
        vec2 uv = vec2(0.5 + 0.5 * (o.x + w.x * t), 0.5 - 0.5 * (o.y + w.y * t));
        if (any(lessThan(uv, vec2(0.0))) || any(greaterThan(uv, vec2(1.0)))) continue;
        float height = frames_height(cell, uv, level), at = o.z + w.z * t;
        if (at > height || at < height - frames_shell - abs(w.z) * stride) continue;
        float low = t - stride, high = t;
        for (int k = 0; k < 4; k++) {
            float middle = 0.5 * (low + high);
            uv = vec2(0.5 + 0.5 * (o.x + w.x * middle), 0.5 - 0.5 * (o.y + w.y * middle));
            if (o.z + w.z * middle > frames_height(cell, uv, level)) low = middle; else high = middle;
        }
        uv = vec2(0.5 + 0.5 * (o.x + w.x * high), 0.5 - 0.5 * (o.y + w.y * high));
        if (textureLod(frames_base, frames_on_sheet(cell, uv, level), level).a < 0.25) continue;
        where = vec3(uv, abs(o.z + w.z * high - frames_height(cell, uv, level)));
        return true;
    }
    return false;
#endif
}

// The colour (linear, straight) and cover of a ray in the thing's own space. Cover is below a half where the thing is not met.
// `where` and `share` say which places of which frames were read, and with which weights, for further maps.
vec4 frames_look(
    vec3 from, vec3 way, vec2 cells[3], vec3 weights, float level, out vec2 places[3], out vec3 shares
) {
    vec3 o = (from - frames_centre) / frames_extent, w = normalize(way);
    shares = vec3(0.0);
    for (int k = 0; k < 3; k++) places[k] = vec2(0.0);
    float along = -dot(o, w), nearest = dot(o, o) - along * along;
    if (nearest > 1.0 || along < 0.0) return vec4(0.0);
    float half_way = sqrt(1.0 - nearest), total = 0.0, empty = 0.0, sure = 0.0;
    vec4 mixed = vec4(0.0);
    for (int k = 0; k < 3; k++) {
        if (weights[k] <= 0.0) continue;
        vec3 where;
        mat3 axes = frames_axes(frames_direction(cells[k]));
        bool hit = frames_met(o, w, axes, cells[k], level, along - half_way, along + half_way, where);
        float apart = hit ? where.z / frames_residual : 0.0;
        float weight = weights[k] / (1.0 + apart * apart);
        if (!hit) { empty += weight; continue; }
        places[k] = frames_on_sheet(cells[k], where.xy, level);
        vec4 base = textureLod(frames_base, places[k], level);
        total += weight * base.a;
        empty += weight * (1.0 - base.a);
        float near = where.z / frames_sure;
        sure = max(sure, base.a / ((1.0 + near * near) * (1.0 + near * near)));
        shares[k] = weight * base.a;
        mixed += vec4(base.rgb, 1.0) * shares[k];
    }
    // A frame that sees nothing where another finds a surface just where it should be does not see that surface.
#if STEPS != 0
    total += empty * (1.0 - frames_trust * sure);
#else
    total += empty;
#endif
    if (mixed.a <= 0.0) return vec4(0.0);
    shares /= mixed.a;
    return vec4(mixed.rgb / mixed.a, mixed.a / total);
}
