"""Terms of the trade that stand on several screens, with what their tooltips say, and how long names are written."""

import re

JND_TIP = (
    "JND, just noticeable difference: at 1 it is only just seen side by side. It stands for 0.02 of OKLab in colour, 2 degrees "
    "in normals, and 2 % of the range in data"
)
_JOINT = re.compile(r"([_./:\-])(?=\S)|(?<=[a-z])(?=[A-Z])")


def breakable(text: str) -> str:
    """Return a text whose long words may be broken between lines at their joints, as in paths and names of files."""
    return _JOINT.sub(lambda joint: f"{joint.group(0)}\u200b", text)
