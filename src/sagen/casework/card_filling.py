"""A machine card filled in: begun from a job, read from the cells of its tables, and taken up by a job."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.codes import known_meaning
from sagen.model.language import tr, worded
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.quantities import TEMPERATURE
from sagen.model.trail import CircuitEntry, CodeEntry, Record
from sagen.model.typed import typed_figure
from sagen.model.vocabulary import Capability, CardQuantity, RelearnKind, Role, SensorKind, State, WireIs, can
from sagen.model.words import WIRES, card_point
from sagen.reason.several import circuits_of

WIRE_COLUMNS = ("carries", "colour", "sensor_pin", "module_pin", "fuse", "fuse_place", "shared_with")
ROW_COLUMNS = ("from", "to", "state", "when", "quantity", "low", "high", "at", "maker")
#: what stands in the place of the limits of a table over temperature, and what figures are called
TABLE, ROW_NAMES = (
    tr("table"),
    {"low": tr("Low"), "high": tr("High")},
)
#: of a circuit, what its fields do not show
NOT_SHOWN = ("position", "number", "polarity", "photo", "face", "pins")
#: which wires a sensor has by what it does and has
WIRE_CAPABILITIES = ((WireIs.SUPPLY, (Capability.FEED,)), (WireIs.SIGNAL, ()), (WireIs.GROUND, (Capability.RETURN,)))


def wire_rows(cells: list[list[str]]) -> list[dict]:
    """Rows of the table of wires as the card's model takes them."""
    known = {words.lower(): key for key, words in WIRES.items()} | {str(wire): wire for wire in WireIs}
    rows = []
    for texts in cells:
        row = {key: text for key, text in zip(WIRE_COLUMNS, texts, strict=True) if text}
        row["carries"] = known.get(row.get("carries", "other").lower(), row.get("carries", "other"))
        if "shared_with" in row:
            row["shared_with"] = [word.strip() for word in row["shared_with"].split(",") if word.strip()]
        rows.append(row)
    return rows


def published_rows(cells: list[list[str]], old: CardCircuit | None = None) -> list[dict]:
    """Rows of the table of published values as the card's model takes them.

    Parameters
    ----------
    cells : list of list of str
        as `row_cells` gives them, and as they are typed
    old : CardCircuit or None
        whose tables over temperature stay as they are where their row is still there

    Raises
    ------
    ValueError
        for a figure that is none, and for a row of a table over temperature that was changed.
    """
    points = {card_point(str(wire)).casefold(): str(wire) for wire in WireIs}
    states = {worded(str(state)).casefold(): str(state) for state in State}
    tables = {
        tuple(row_cells(row)): row.model_dump(mode="json", exclude_defaults=True)
        for row in (old.published if old is not None else ())
        if row.over
    }
    rows = []
    for number, texts in enumerate(cells, start=1):
        if tuple(texts) in tables:
            rows.append(tables[tuple(texts)])
            continue
        row = {key: text for key, text in zip(ROW_COLUMNS, texts, strict=True) if text}
        if row.get("low") == TABLE:
            raise ValueError(
                tr(
                    "published value {number}: a table over temperature is changed in the card's file; here it can be removed",
                    number=number,
                )
            )
        data: dict = {"between": [points.get(row[key].casefold(), row[key]) for key in ("from", "to") if key in row]}
        if "state" in row:
            data["state"] = states.get(row["state"].casefold(), row["state"].replace(" ", "_"))
        for key in ("when", "maker"):
            if key in row:
                data[key] = row[key]
        data["quantity"] = {"Ω": "ohm", "ohms": "ohm"}.get(row.get("quantity", "ohm"), row.get("quantity", "ohm"))
        if "at" in row:
            data["at"] = TEMPERATURE.typed(row["at"], tr("published value {number}", number=number))
        for key in ("low", "high"):
            if key in row:
                data[key] = typed_figure(
                    row[key], tr("published value {number}, {key}", number=number, key=ROW_NAMES[key])
                )
        rows.append(data)
    return rows


def relearn_data(kind: RelearnKind, text: str, old: CardCircuit | None) -> dict:
    """How it is relearnt; the steps of the card stay while the kind does."""
    steps = {}
    if old is not None and old.relearn is not None and old.relearn.kind == kind:
        steps = old.relearn.model_dump(mode="json", exclude_defaults=True)
    return steps | {"kind": kind, "text": text}


def circuit_data(old: CardCircuit | None, typed: dict) -> dict:
    """A circuit as typed, with what its fields do not show as it was."""
    if old is None:
        return typed
    kept = old.model_dump(mode="json", exclude_defaults=True)
    return {key: value for key, value in kept.items() if key in NOT_SHOWN} | typed


def row_cells(row: Published) -> list[str]:
    """A published value as cells; a table over temperature has a row that says so."""
    if row.over:
        limits = [TABLE, "", ""]
    else:
        limits = [
            "" if item is None else f"{item:g}"
            for item in (row.low, row.high, None if row.at is None else TEMPERATURE.shown(row.at))
        ]
    between = [*map(card_point, row.between), ""][:2]
    unit = "Ω" if row.quantity == CardQuantity.OHM else str(row.quantity)
    return [*between, worded(str(row.state or "")), row.when, unit, *limits, row.maker]


def new_circuit(name: str, role: Role, sensor: SensorKind | None) -> CardCircuit:
    """A circuit with the wires that its kind of sensor usually has, numbered from 1."""
    carried = [wire for wire, asks in WIRE_CAPABILITIES if sensor is not None and can(sensor, *asks)]
    wires = [{"carries": item, "sensor_pin": str(k)} for k, item in enumerate(carried, start=1)]
    return CardCircuit.model_validate({"name": name, "role": role, "sensor": sensor, "wire": wires})


def begun(job) -> MachineCard:
    """A card begun from what a job states."""
    circuits = []
    for name, spec in circuits_of(job.records()).items():
        made = new_circuit(name or str(spec.role), spec.role, spec.sensor)
        circuits.append(made.model_copy(update={
            "bank": spec.bank, "position": spec.position, "wheel": spec.wheel, "supply": spec.supply, "pull_up": spec.pull_up,
        }))  # fmt: skip
    return MachineCard(model=job.machine[:60], cylinders=job.cylinders, circuit=tuple(circuits))


def circuits_to_state(records: Iterable[Record], card: MachineCard) -> list[CircuitEntry]:
    """The circuits that a job is about, as the card has them: those that it states already or its codes point at; of a job
    that states none, the card's first."""
    records = list(records)
    stated = circuits_of(records)
    known = [item for item in card.circuit if item.spec is not None]
    wanted = [item for item in known if item.name in stated]
    for entry in (item for item in records if isinstance(item, CodeEntry)):
        own = card.circuit_of_code(entry.code)
        found = known_meaning(entry.code)
        wanted += [
            item for item in known
            if (own and own.circuit == item.name)
            or (found and found.role == item.role and (found.bank is None or item.bank in (None, found.bank)))
        ]  # fmt: skip
    if not wanted:
        roles = {spec.role for spec in stated.values()}
        wanted = [item for item in known if item.role in roles] or known[:1]
    unique = list({item.name: item for item in wanted}.values())
    # One circuit needs no name: what the job holds already stays its own.
    if len(unique) == 1 and set(stated) == {""}:
        return [CircuitEntry(unique[0].spec)] if unique[0].spec != stated[""] else []
    return [CircuitEntry(item.spec, circuit=item.name) for item in unique]
