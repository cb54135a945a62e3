"""The shader that ships with view frames: functions for two versions of the language, and a small complete program around them."""

from __future__ import annotations

from importlib.resources import files

from oaktrim.core.makers.imposter.frames import kernel
from oaktrim.core.makers.imposter.settings import Steps

_HEADERS = {
    "330": "#version 330 core\n",
    "300 es": "#version 300 es\nprecision highp float;\nprecision highp sampler2D;\n",
}
_VERTEX = """
// The quad turned to the eye: its corners are those of the outline in the JSON, -1 to 1 to the right and up.
in vec2 corner;
uniform mat4 to_clip;               // from the thing's own space
uniform vec3 eye;                   // in the thing's own space; with parallel rays, a point far away on them
uniform vec3 eye_right, eye_up;     // of the camera, unit vectors in the thing's own space
uniform vec3 eye_way;               // where all rays go that are parallel, else nought
uniform vec3 frames_centre;
uniform float frames_extent;
out vec3 place;
void main() {
    // The sphere around the thing, seen from near by, covers more of the plane through its middle.
    float near = min(frames_extent / max(length(eye - frames_centre), 1e-9), 0.87);
    float grow = dot(eye_way, eye_way) > 0.0 ? 1.0 : inversesqrt(1.0 - near * near);
    place = frames_centre + (eye_right * corner.x + eye_up * corner.y) * frames_extent * grow;
    gl_Position = to_clip * vec4(place, 1.0);
}
"""
_FRAGMENT = """
uniform vec3 eye;                   // in the thing's own space
uniform vec3 eye_way;               // where all rays go that are parallel, else nought
uniform float level;                // log2 of a frame's texels to the pixels that its width takes on the screen, at least 0
in vec3 place;
out vec4 colour;
void main() {
    vec2 cells[3], places[3];
    vec3 weights, shares;
    bool parallel = dot(eye_way, eye_way) > 0.0;
    frames_around(parallel ? -eye_way : eye - frames_centre, cells, weights);
    vec3 way = parallel ? eye_way : place - eye;
    vec3 from = parallel ? place - normalize(eye_way) * frames_extent * 4.0 : eye;
    vec4 found = frames_look(from, way, cells, weights, clamp(level, 0.0, frames_grid.w), places, shares);
    if (found.a < 0.5) discard;
    // Light goes here: read normals (in the thing's own space) and other maps at `places`, weighed by `shares`.
    vec3 low = found.rgb * 12.92, high = 1.055 * pow(max(found.rgb, vec3(1e-6)), vec3(1.0 / 2.4)) - 0.055;
    colour = vec4(mix(high, low, lessThanEqual(found.rgb, vec3(0.0031308))), 1.0);
}
"""


def functions(steps: Steps) -> str:
    """Return the functions, without a version: they are the same in both."""
    text = (files("oaktrim.core.makers.imposter.frames") / "frames.glsl").read_text()
    values = {
        "STEPS": {Steps.MARCH: "-1"}.get(steps, steps.value), "RESIDUAL": f"{kernel.RESIDUAL:g}", "SURE": f"{kernel.SURE:g}",
        "TRUST": f"{kernel.TRUST:g}", "SHELL": f"{kernel.SHELL:g}",
    }  # fmt: skip
    for name, value in values.items():
        text = text.replace(f"@{name}@", value)
    return text


def programs(steps: Steps, version: str, defines: str = "") -> tuple[str, str]:
    """Return the vertex and the fragment program.

    Parameters
    ----------
    version : "330" or "300 es"; defines : lines that stand before the functions, such as "#define NEAREST 1"
    """
    head = _HEADERS[version] + (f"{defines}\n" if defines else "")
    return head + _VERTEX, head + functions(steps) + _FRAGMENT


def shader_file(steps: Steps, version: str) -> str:
    """Return both programs as one text, of which each is compiled with VERTEX or FRAGMENT defined."""
    head = _HEADERS[version]
    return (
        f"{head}// Compile twice: with VERTEX defined after the version, and with FRAGMENT.\n"
        f"#ifdef VERTEX\n{_VERTEX}#endif\n#ifdef FRAGMENT\n{functions(steps)}{_FRAGMENT}#endif\n"
    )
