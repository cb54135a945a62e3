"""How the role of a texture has it brought down and encoded: whether alpha covers, whether vectors are turned, what counts."""

from __future__ import annotations

from oaktrim.core.codecs.effort import ErrorMetric
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Filter, Resampling
from oaktrim.core.survey.roles import Family, Role


def alpha_covers(role: Role) -> bool:
    """Say whether alpha of a role says how much of the colour is seen; else it is a value like the others."""
    return role.family in (Family.COLOUR, Family.OTHER)


def error_metric_of(role: Role) -> ErrorMetric:
    """Return what an encoder counts the errors of a role on."""
    if role is Role.NORMAL:
        return ErrorMetric.NORMALS
    return ErrorMetric.COLOUR if alpha_covers(role) else ErrorMetric.DATA


def resampled_as(role: Role, image: Image, how: Filter) -> Resampling:
    """Return how a picture of a role is brought down by a filter."""
    normals = role is Role.NORMAL and len(image.channels) >= 3
    return Resampling(how, normals=normals, alpha_covers=alpha_covers(role))
