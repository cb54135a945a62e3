"""Terms of the trade that stand on several screens, with what their tooltips say."""

JND_TIP = (
    "JND, just noticeable difference: at 1 it is only just seen side by side. It stands for 0.02 of OKLab in colour, 2 degrees "
    "in normals, and 2 % of the range in data"
)
