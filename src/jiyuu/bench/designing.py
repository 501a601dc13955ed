"""What a search for a filter found, in words and as JSON."""

from __future__ import annotations

from jiyuu.character.design import Designed, Proposal
from jiyuu.circuits.catalogue import circuit
from jiyuu.wording.design import costs_sentence, fight_sentence, proposal_sentence


def designed_sentence(found: Designed) -> str:
    """The best proposal, or which wishes fight."""
    if found.fight is not None:
        fight = found.fight
        return fight_sentence(fight.first, fight.second, fight.off, circuit(fight.circuit).title, fight.mode)
    return proposed(found.proposals[0])


def percent_of_onset(one: Proposal) -> float:
    """Where its loop gain stands; of the end of its control where it never whistles."""
    entry = one.subject.filter.entry
    return 100 * one.subject.gain / (entry.onset_gain or entry.full_gain)


def proposed(one: Proposal) -> str:
    """A proposal in two sentences."""
    subject, built = one.subject, one.built
    return (proposal_sentence(subject.filter.entry.title, subject.mode, subject.cutoff_hz, percent_of_onset(one),
                              built.value, built.low, built.high)
            + " " + costs_sentence(built.costs_most, built.if_exact, built.at_half))


def proposal_json(one: Proposal) -> dict[str, object]:
    """With the filter as its file holds it."""
    subject, built = one.subject, one.built
    return {
        "circuit": subject.filter.circuit, "mode": subject.mode, "cutoff_hz": subject.cutoff_hz,
        "resonance_gain": subject.gain, "parameters": dict(subject.filter.parameters),
        "components": one.components.model_dump(mode="json"), "predicted": one.predicted,
        "worst_tolerances": one.worst,
        "yield": {"value": built.value, "low": built.low, "high": built.high, "builds": built.builds},
        "costs_most": None if built.costs_most is None else {
            "part": built.costs_most, "yield_if_exact": built.if_exact, "yield_at_half": built.at_half},
        "sentence": proposed(one), "filter": subject.filter.model_dump(mode="json", exclude_defaults=True) | {
            "format": "jiyuu-filter", "version": 1},
    }
