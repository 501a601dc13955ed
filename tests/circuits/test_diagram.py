"""Every circuit has a drawing of its own that can be shown."""

import xml.etree.ElementTree as ET

import pytest

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.diagram import diagram_svg


@pytest.mark.parametrize("entry", circuits().values(), ids=circuits())
def test_the_drawing_is_svg_that_names_its_stages_and_paths(entry):
    root = ET.fromstring(diagram_svg(entry.diagram, ink="#000000", quiet="#444444"))
    words = [node.text for node in root.iter("{http://www.w3.org/2000/svg}text")]
    wanted = [*entry.diagram.chain, *(b.label for b in entry.diagram.back), *(label for _, label in entry.diagram.taps)]
    assert sorted(words) == sorted(wanted)
    width = float(root.get("width"))
    for node in root.iter("{http://www.w3.org/2000/svg}polyline"):
        assert all(0 <= float(point.split(",")[0]) <= width for point in node.get("points").split())
    for back in entry.diagram.back:
        assert 0 <= back.end <= back.start < len(entry.diagram.chain)
    assert len({entry.diagram for entry in circuits().values()}) == len(circuits())
