"""Volts and loudness: what leaves the filter, what the next module takes, what to turn down."""

from __future__ import annotations

from jiyuu.measurement.contexts import Played
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.levels import Staging
from jiyuu.quantities import signed
from jiyuu.wording.numbers import doubt_text
from jiyuu.wording.quantity import Quantity, context


def _margin(finding: Finding) -> str:
    limit_v = context(finding, Played).limit_v
    if finding.value >= 0:
        return f"{finding.value:.1f} dB under the limit of the next module (±{limit_v:g} V)."
    return f"{-finding.value:.1f} dB over the limit of the next module (±{limit_v:g} V)."


QUANTITIES: dict[str, Quantity] = {
    "output_peak_v": Quantity(
        "Output peak",
        lambda f: f"Output peak {f.value:.2f}{doubt_text(f, 2)} V for {context(f, Played).source}.",
        "The highest voltage that leaves the filter.", "Peak between the samples, four times oversampled.",
    ),
    "output_loudness_lufs": Quantity(
        "Loudness",
        lambda f: f"Loudness {signed(f.value)} LUFS re {context(f, Played).full_scale_v:g} V full scale.",
        "How loud that is to the ear.", "Integrated loudness of ITU-R BS.1770.",
    ),
    "output_margin_db": Quantity(
        "Margin", _margin, "What is left to the limit of what comes next.", "Limit over output peak.",
        formula="20·log₁₀(limit / peak).",
    ),
}


def staging_lines(found: Staging) -> tuple[str, ...]:
    """Advice in dB, worst first: rails, next module, then whether the filter itself is driven."""
    said = []
    if found.rails_over_db > 0:
        said.append(f"Output would be {found.output_v:.1f} V and clips at the ±{found.rail_v:g} V rails: take "
                    f"{found.rails_over_db:.1f} dB off ahead of the filter.")
    over_db = found.next_over_db
    if over_db > 0.05:
        said.append(f"Next module (±{found.limit_v:g} V): {over_db:.1f} dB over; trim the output by −{over_db:.1f} dB.")
    elif over_db < -12:
        said.append(f"Next module (±{found.limit_v:g} V): {-over_db:.1f} dB under its limit, and nearer the noise.")
    else:
        said.append(f"Next module (±{found.limit_v:g} V): {abs(over_db):.1f} dB left.")
    into_db = found.stage_over_db
    if into_db is not None and into_db > 0:
        said.append(f"The first stage is driven {into_db:.1f} dB past its headroom of {found.headroom_v:.3g} V: it "
                    f"saturates. Clean from −{into_db:.1f} dB of drive on.")
    elif into_db is not None:
        said.append(f"The first stage has {-into_db:.1f} dB to its headroom of {found.headroom_v:.3g} V.")
    return tuple(said)
