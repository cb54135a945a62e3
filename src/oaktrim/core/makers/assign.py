"""Who reads what makers make: materials whose slots pass from a source to an output, and models that others stand in for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from oaktrim.core.survey.derived import Derivation, material_path
from oaktrim.core.survey.facts import MaterialFacts, ModelFacts, SlotFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.ownership import Owner, Ownership

# A use of a texture by a material: the texture's path, and which use it is.
_Use = tuple[str, Owner]


def taken_over(
    found: Inventory, new_models: Mapping[str, ModelFacts], derivations: Sequence[Derivation]
) -> tuple[Ownership, dict[str, list[Owner]]]:
    """Return models, and the owners of each texture by path, after makers have taken over what they are assigned to."""
    ownership, uses = _with_models(found, new_models, derivations)
    serving: dict[str, list[Derivation]] = {}
    made_of: dict[str, list[Derivation]] = {}
    for derivation in derivations:
        for name in derivation.materials:
            serving.setdefault(name, []).append(derivation)
        for source in derivation.inputs:
            made_of.setdefault(source, []).append(derivation)
    owners: dict[str, list[Owner]] = {}
    for model, holder in enumerate(ownership.models):
        for number, material in enumerate(holder.materials):
            name, mine = material_path(holder.path, material.name), uses.get((model, number), [])
            wanting = [*serving.get(name, ()), *(d for source, _ in mine for d in made_of.get(source, ()))]
            if wanting:
                mine = _served(name, material, mine, (model, number), wanting)
            for path, owner in mine:
                owners.setdefault(path, []).append(owner)
    return ownership, owners


def _served(
    name: str, material: MaterialFacts, mine: list[_Use], place: tuple[int, int], wanting: Sequence[Derivation]
) -> list[_Use]:
    """Return the uses of one material after makers have taken theirs over, the first that wants a slot first."""
    slots = {owner.slot.name: (owner.slot.slot, source) for source, owner in mine}
    taken: dict[int, str] = {}
    added: list[_Use] = []
    for derivation in {id(d): d for d in wanting}.values():
        wanted = derivation.uses(name, slots)
        by_slot = {use.slot: use.output for use in wanted}
        met = {at: by_slot[owner.slot.slot] for at, (_, owner) in enumerate(mine) if owner.slot.slot in by_slot}
        taken = met | taken
        if wanted and not met and name in derivation.materials:
            # It had no texture in those slots so far.
            tiles = any(slot.tiles for slot in material.slots)
            slot = SlotFacts(wanted[0].slot, wanted[0].slot.value, -1, tiles, False)
            added.append((wanted[0].output, Owner(*place, slot)))
    return [(taken.get(at, source), owner) for at, (source, owner) in enumerate(mine)] + added


def _with_models(
    found: Inventory, new_models: Mapping[str, ModelFacts], derivations: Sequence[Derivation]
) -> tuple[Ownership, dict[tuple[int, int], list[_Use]]]:
    """Return what was found with derived models in the place of their sources, and the uses of textures by each material."""
    before = found.ownership
    gone = {source for d in derivations for source, model in d.replaces.items() if model in new_models}
    kept = [place for place, model in enumerate(before.models) if model.path not in gone]
    moved = {old: new for new, old in enumerate(kept)}
    models = (*(before.models[place] for place in kept), *new_models.values())
    uses: dict[tuple[int, int], list[_Use]] = {}
    for row, mine in before.owners.items():
        for owner in mine:
            if owner.model in moved:
                held = owner if moved[owner.model] == owner.model else replace(owner, model=moved[owner.model])
                uses.setdefault((held.model, held.material), []).append((found.textures[row].path, held))
    for place, model in enumerate(new_models.values(), len(kept)):
        for number, material in enumerate(model.materials):
            for slot in material.slots:
                if 0 <= slot.image < len(model.images):
                    use = (model.images[slot.image].held, Owner(place, number, slot))
                    uses.setdefault((place, number), []).append(use)
    return replace(before, models=models, rows_of={}), uses


def by_rows(ownership: Ownership, by_row: dict[int, tuple[Owner, ...]]) -> Ownership:
    """Return models over the textures that they use, by the rows that these have."""
    rows_of: dict[tuple[int, int], dict[int, None]] = {
        (model, number): {} for model, facts in enumerate(ownership.models) for number in range(len(facts.materials))
    }
    order = sorted(
        (owner.model, owner.material, _slot_place(ownership, owner), row)
        for row, mine in by_row.items()
        for owner in mine
    )
    for model, material, _, row in order:
        rows_of[model, material][row] = None
    return replace(ownership, owners=by_row, rows_of={key: tuple(rows) for key, rows in rows_of.items()})


def _slot_place(ownership: Ownership, owner: Owner) -> int:
    slots = ownership.material(owner).slots
    return slots.index(owner.slot) if owner.slot in slots else len(slots)
