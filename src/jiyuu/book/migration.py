"""Older books brought up to date, each version at once, on a copy; nothing they held is lost."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterable, Mapping
from functools import partial
from importlib.resources import files
from typing import Any

import numpy as np

from jiyuu.book.table import Table
from jiyuu.measurement.context import Context
from jiyuu.measurement.contexts import (
    Beside,
    BodyPlace,
    BusiestTenth,
    ConcertPitch,
    DeadStretches,
    HumpPlace,
    NextModule,
    Played,
    ProposedLaw,
    StepPlace,
    TrimTurn,
    UsableRange,
)

STEP_KEYS = {"Setup": "setup", "Response": "response", "Resonance": "resonance",
             "Self-oscillation": "self_oscillation", "Tracking": "tracking"}
STANDING = ("circuit", "mode", "cutoff_hz", "standing_hz", "parameters", "control", "resonance_percent", "trims")
# Arrays that version 1 kept among the settings: table -> (old name, column, unit).
ARRAYS: dict[str, tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...]] = {
    "Resonance": (("resonance", (("position_percent", "position_percent", "%"), ("body_db", "body_db", "dB"),
                                 ("peak_db", "peak_db", "dB"), ("highest_db", "highest_db", "dB"))),),
    "Self-oscillation": (
        ("pull", (("position_percent", "position_percent", "%"), ("pull_hz", "frequency_hz", "Hz"),
                  ("pull_v", "amplitude_v", "V"))),
        ("range", (("range_hz", "frequency_hz", "Hz"), ("range_v", "amplitude_v", "V"))),
        ("harmonics", (("harmonics_db", "harmonics_db", "dB"),)),
    ),
    "Tracking": (("tracking", (("volts", "volts", "V"), ("frequency_hz", "frequency_hz", "Hz"),
                               ("uncertainty_hz", "uncertainty_hz", "Hz"), ("tone_v", "amplitude_peak_v", "V"),
                               ("settled_s", "settled_s", "s"))),),
}
RENAMED_SETTINGS = {"whistle": "self_oscillation"}
RESPONSE_SETTINGS = ("level_v", "beside", "cutoff_named")
RENAMED_QUANTITIES = {"cusp_percent": "balance_percent"}


def from_version_2(old: sqlite3.Connection, new: sqlite3.Connection) -> None:
    """A version 2 book, to which nothing could be enclosed."""
    old.backup(new)
    today = sqlite3.connect(":memory:")
    today.executescript(_schema())
    (made,) = today.execute("SELECT sql FROM sqlite_master WHERE name = 'enclosures'").fetchone()
    today.close()
    new.execute(made)


def _schema() -> str:
    return files("jiyuu.book").joinpath("schema.sql").read_text(encoding="utf-8")


def from_version_1(old: sqlite3.Connection, new: sqlite3.Connection) -> None:
    """Everything of a version 1 book into an empty one."""
    new.executescript(_schema())
    for table, columns in (
        ("filters", "id, letter, document, seed, created_at"),
        ("records", "run_id, name, sample_rate_hz, samples, volts"),
        ("notes", "id, filter_id, text, shown, made_at"),
    ):
        marks = ", ".join("?" * (columns.count(",") + 1))
        new.executemany(f"INSERT INTO {table} ({columns}) VALUES ({marks})",
                        old.execute(f"SELECT {columns} FROM {table}"))
    for filter_id, name, value in _settings(old.execute("SELECT filter_id, name, value FROM settings")):
        new.execute("INSERT INTO settings VALUES (?, ?, ?)", (filter_id, name, value))
    for row in old.execute("SELECT id, filter_id, step, settings, source, made_at FROM runs"):
        _run(new, *row)
    for run_id, points, *blobs in old.execute(
        "SELECT run_id, points, frequency_hz, level_db, phase_deg, uncertainty_db, snr_db FROM curves"
    ):
        names = (("frequency_hz", "Hz"), ("magnitude_db", "dB"), ("phase_deg", "°"), ("uncertainty_db", "dB"),
                 ("snr_db", "dB"))
        curve = [(name, unit, np.frombuffer(blob, dtype="<f8")[:points])
                 for (name, unit), blob in zip(names, blobs, strict=True)]
        _keep(new, run_id, Table.of("response", *curve))
    for row in old.execute(
        "SELECT id, filter_id, run_id, step, quantity, value, unit, uncertainty, tolerance_low, tolerance_high,"
        " sentence, settings, kept, kept_at FROM findings"
    ):
        number, filter_id, run_id, step, quantity, value, *rest, settings, kept, kept_at = row
        context = _context(quantity, json.loads(settings), value)
        new.execute(
            "INSERT INTO findings VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (number, filter_id, run_id, STEP_KEYS.get(step, step), RENAMED_QUANTITIES.get(quantity, quantity), value,
             *rest, None if context is None else json.dumps(context.as_json()), kept, kept_at),
        )
    for number, kind, before, after, undone, done_at in old.execute(
        "SELECT id, kind, before, after, undone, done_at FROM actions ORDER BY id"
    ):
        new.execute("INSERT INTO actions VALUES (?, ?, ?, ?, ?, ?)",
                    (number, kind, _act(kind, before), _act(kind, after), undone, done_at))


def _settings(rows: Iterable[tuple[int, str, str]]) -> list[tuple[int, str, str]]:
    """What belonged to the Response step, gathered under its name; other names as they are called now."""
    found: list[tuple[int, str, str]] = []
    gathered: dict[int, dict[str, object]] = {}
    for filter_id, name, value in rows:
        if name in RESPONSE_SETTINGS:
            gathered.setdefault(filter_id, {})[name] = json.loads(value)
        else:
            found.append((filter_id, RENAMED_SETTINGS.get(name, name), _renamed(name, value)))
    return [*found, *((filter_id, "response", json.dumps(_response(values))) for filter_id, values in gathered.items())]


def _response(values: Mapping[str, object]) -> dict[str, object]:
    named = {"level_v": "curve_level_v"}
    return {named.get(name, name): value for name, value in values.items() if value is not None}


def _renamed(name: str, value: str) -> str:
    if name != "whistle":
        return value
    setting = json.loads(value)
    if isinstance(setting, dict) and "cusp_db" in setting:
        setting["balance_db"] = setting.pop("cusp_db")
    return json.dumps(setting)


def _act(kind: str, state: str) -> str:
    """A 'set' of version 1 in the names of version 2; acts on a part of the Response setting stand for the whole."""
    if kind != "set":
        return state
    document = json.loads(state)
    values = document.get("values", {})
    moved = {RENAMED_SETTINGS.get(name, name): json.loads(_renamed(name, json.dumps(value)))
             for name, value in values.items() if name not in RESPONSE_SETTINGS}
    told = {name: value for name, value in values.items() if name in RESPONSE_SETTINGS}
    if told:
        moved["response"] = _response(told) or None
    return json.dumps({**document, "values": moved})


def _run(
    new: sqlite3.Connection, number: int, filter_id: int, step: str, settings: str, source: str, made_at: str
) -> None:
    made_with = json.loads(settings)
    standing = {name: made_with.pop(name) for name in STANDING if name in made_with}
    tables = []
    for name, columns in ARRAYS.get(step, ()):
        if all(isinstance(made_with.get(old), list) for old, _, _ in columns):
            values = [(title, unit, [np.nan if v is None else v for v in made_with.pop(old)])
                      for old, title, unit in columns]
            tables.append(Table.of(name, *values))
    new.execute(
        "INSERT INTO runs VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (number, filter_id, STEP_KEYS.get(step, step), standing.get("mode"), json.dumps(standing), "{}",
         json.dumps(made_with), source, 1, made_at),
    )
    for table in tables:
        _keep(new, number, table)


def _keep(new: sqlite3.Connection, run_id: int, table: Table) -> None:
    new.execute("INSERT INTO tables VALUES (?, ?, ?, ?, ?)", (run_id, *table.stored()))


def _context(quantity: str, told: Mapping[str, Any], value: float) -> Context | None:
    """What version 1 had among a finding's settings, as the context of its kind; None where it needs none."""
    make: dict[str, Callable[[], Context]] = {
        "body_db": lambda: BodyPlace(told["body_hz"]),
        "output_change_db": lambda: Played(told["source"], told["limit_v"]),
        "overload_from_percent": lambda: _next_module(told), "headroom_db": lambda: _next_module(told),
        "output_peak_v": lambda: _played(told), "output_margin_db": lambda: _played(told),
        "output_loudness_lufs": lambda: _played(told),
        "taper_evenness_percent": lambda: BusiestTenth(told["ends_at_percent"]),
        "proposed_evenness_percent": lambda: ProposedLaw(told["taper"]),
        "dead_travel_percent": lambda: DeadStretches(tuple(
            (float(low), float(high.rstrip(" %")))
            for low, high in (part.split(" to ") for part in told["where"].split(", "))
        )),
        "hump_db": lambda: HumpPlace(told["hump_hz"], told["octaves"]),
        "tone_hz": lambda: ConcertPitch(told.get("concert_a_hz", 440.0)),
        "cusp_percent": lambda: Beside(told["source"], told["target_db"], told["at_db"], told["percent_per_db"],
                                       told["jumps"], told["caught"]),
        "whistle_at_end_db": lambda: Beside(
            told["source"], told["target_db"],
            caught_percent=None if told["caught_percent"] is None else tuple(told["caught_percent"])),
        "tracking_error_cents": lambda: StepPlace(told["at_v"]),
        "usable_span_v": lambda: _usable(told, value),
        **{f"{trim}_turn": partial(_turn, trim, told, value) for trim in ("scale", "hf", "offset", "resonance")},
    }
    try:
        return make[quantity]() if quantity in make else None
    except (KeyError, ValueError, TypeError):
        return None


def _next_module(told: Mapping[str, Any]) -> NextModule:
    return NextModule(told["limit_v"], told["highest_v"], told["highest_percent"], told["trim_db"])


def _played(told: Mapping[str, Any]) -> Played:
    return Played(told["source"], told["limit_v"], told.get("full_scale_v", 10.0))


def _usable(told: Mapping[str, Any], volts: float) -> UsableRange:
    """The words were '0 to 6 V (5.98 octaves)', 'only at 1 V' or 'nowhere'."""
    words = told["where"].replace("(", "").split()
    if words[0] == "nowhere":
        return UsableRange(told["tolerance_cents"], None, None)
    if words[0] == "only":
        return UsableRange(told["tolerance_cents"], float(words[2]), float(words[2]))
    return UsableRange(told["tolerance_cents"], float(words[0]), float(words[2]), float(words[4]))


def _turn(trim: str, told: Mapping[str, Any], amount: float) -> TrimTurn:
    """The turns stand only in the sentence: '…, 1.2 turns clockwise.'"""
    before, _, after = str(told["said"]).partition(" turns ")
    turns = float(before.rpartition(", ")[2])
    volts = told["said"].partition("an octave takes ")[2].partition(" V now")[0]
    aimed = told["said"].partition("whistles from ")[2].partition(" %")[0]
    return TrimTurn(trim, amount, turns if after.startswith("clockwise") else -turns,
                    float(volts) if volts else None, float(aimed) if aimed else None)


MIGRATIONS: dict[int, Callable[[sqlite3.Connection, sqlite3.Connection], None]] = {
    1: from_version_1, 2: from_version_2}
