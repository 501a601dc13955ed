"""Acts of a person: done, taken back, done again. Nothing is deleted by any of them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

from jiyuu.book.stored import Act

TOGETHER_S = 1.5  # acts on the same controls that follow so soon are one: ten presses of an arrow, one undo


def now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def act(connection: sqlite3.Connection, kind: str, before: Mapping[str, object], after: Mapping[str, object], *,
        together: bool = False) -> None:
    """Do it and remember it. together: as part of the act before, where that moved the same controls just now."""
    apply(connection, kind, after)
    if together and _joined(connection, kind, after):
        return
    # What was undone and not redone is overtaken by a new act.
    connection.execute("UPDATE actions SET undone = 2 WHERE undone = 1")
    connection.execute(
        "INSERT INTO actions (kind, before, after, done_at) VALUES (?, ?, ?, ?)",
        (kind, json.dumps(dict(before)), json.dumps(dict(after)), now()),
    )


def _joined(connection: sqlite3.Connection, kind: str, after: Mapping[str, Any]) -> bool:
    last = connection.execute("SELECT * FROM actions ORDER BY id DESC LIMIT 1").fetchone()
    if last is None or last["kind"] != kind or last["undone"]:
        return False
    was = json.loads(last["after"])
    same = was.get("filter_id") == after.get("filter_id") and set(was.get("values", ())) == set(after["values"])
    age = datetime.now(UTC) - datetime.fromisoformat(last["done_at"])
    if not same or not 0 <= age.total_seconds() < TOGETHER_S:
        return False
    connection.execute("UPDATE actions SET after = ?, done_at = ? WHERE id = ?",
                       (json.dumps(dict(after)), now(), last["id"]))
    return True


def turn(connection: sqlite3.Connection, *, back: bool, mine: Callable[[int], bool]) -> Act | None:
    """Take back the last act, or do again what was taken back last; None where there is none. mine: by the number of an
    act, whether it may be turned: what others did meanwhile stays, and so does a control they moved after it."""
    query = ("SELECT id FROM actions WHERE undone = 0 ORDER BY id DESC" if back else
             "SELECT id FROM actions WHERE undone = 1 ORDER BY id")
    for (number,) in connection.execute(query).fetchall():
        if not mine(number):
            continue
        row = connection.execute("SELECT * FROM actions WHERE id = ?", (number,)).fetchone()
        before, after = json.loads(row["before"]), json.loads(row["after"])
        state, other = (before, after) if back else (after, before)
        if row["kind"] == "set":
            state = _where_it_stands(connection, state, other)
            if not state["values"]:
                connection.execute("UPDATE actions SET undone = 2 WHERE id = ?", (row["id"],))
                continue
        apply(connection, row["kind"], state)
        connection.execute("UPDATE actions SET undone = ? WHERE id = ?", (int(back), row["id"]))
        return Act(row["kind"], state, other)
    return None


def _where_it_stands(
    connection: sqlite3.Connection, state: Mapping[str, Any], other: Mapping[str, Any]
) -> dict[str, object]:
    """The state without the controls that somebody has moved on since."""
    rows = connection.execute("SELECT name, value FROM settings WHERE filter_id = ?", (state["filter_id"],)).fetchall()
    now_at = {row["name"]: json.loads(row["value"]) for row in rows}
    return {**state, "values": {name: value for name, value in state["values"].items()
                                if now_at.get(name) == other["values"].get(name)}}


def apply(connection: sqlite3.Connection, kind: str, state: Mapping[str, Any]) -> None:
    """Bring the tables into the state that an act leads to."""
    if kind == "set":
        for name, value in state["values"].items():
            if value is None:
                connection.execute(
                    "DELETE FROM settings WHERE filter_id = ? AND name = ?", (state["filter_id"], name)
                )
            else:
                connection.execute(
                    "INSERT INTO settings VALUES (?, ?, ?) ON CONFLICT (filter_id, name) DO UPDATE SET value = ?",
                    (state["filter_id"], name, json.dumps(value), json.dumps(value)),
                )
    elif kind == "keep":
        connection.execute(
            "UPDATE findings SET kept = ?, kept_at = ? WHERE id = ?",
            (int(state["kept"]), now() if state["kept"] else None, state["finding_id"]),
        )
    elif kind in ("note", "filter", "run"):
        connection.execute(f"UPDATE {kind}s SET shown = ? WHERE id = ?", (int(state["shown"]), state[f"{kind}_id"]))
