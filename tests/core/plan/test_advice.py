"""Which formats are offered for a use on a target."""

from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.plan.advice import format_options
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named


def fitting(target, *use, **more):
    return [offer.format.name for offer in format_options(target_named(target), *use, **more) if not offer.against]


def test_every_format_is_offered_once_and_those_that_fit_come_first():
    found = format_options(target_named("pocket"), Role.NORMAL)
    assert sorted(offer.format.name for offer in found) == sorted(ORDER)
    against = [bool(offer.against) for offer in found]
    assert against == sorted(against)
    assert all(offer.format.good_for and offer.format.weakness for offer in found)


def test_what_fits_depends_on_hardware_and_use():
    assert {"astc-4x4", "eac-rg11", "rg8"} <= set(fitting("pocket", Role.NORMAL))
    assert not {"bc5", "bc7", "etc2-rgb", "rgb565", "r8"} & set(fitting("pocket", Role.NORMAL))
    assert {"bc5", "bc7"} <= set(fitting("lounge", Role.NORMAL))
    assert "etc2-rgb" in fitting("pocket", Role.BASE_COLOUR)
    assert "etc2-rgb" not in fitting("pocket", Role.BASE_COLOUR, alpha=True)
    assert "eac-r11" in fitting("pocket", Role.ROUGHNESS)
    assert fitting("lounge", Role.ENVIRONMENT, floating=True) == [
        "rgba16f",
        "r11g11b10f",
        "rgb9e5",
        "bc6h",
        "bc6h-signed",
    ]
    # A lookup table is exact or nothing.
    assert all(not name.startswith(("bc", "etc2", "eac", "astc")) for name in fitting("pocket", Role.LOOKUP))


def test_the_reason_is_said():
    against = {offer.format.name: offer.against for offer in format_options(target_named("pocket"), Role.NORMAL)}
    assert against["bc7"] == "Pocket has no hardware for it and makes RGBA8 of it"
    assert against["etc2-rgb"] == "bends normals"
    assert against["r8"] == "keeps no G"
    assert against["bc6h"].startswith("Pocket has no hardware")
