"""Links as GraphML (http://graphml.graphdrawing.org/specification.html), JSON and CSV, for whatever draws or computes graphs."""

from collections.abc import Callable, Mapping, Sequence
from xml.etree import ElementTree as Tree

import orjson

from lumtar.core.text import csv_line
from lumtar.core.topology import End
from lumtar.domain.topology.by_hand import COLUMNS
from lumtar.domain.topology.queries import SeenLink

NAMESPACE = "http://graphml.graphdrawing.org/xmlns"
NODE_KEYS = {"name": "string", "site": "string", "address": "string"}
EDGE_KEYS = {"from_port": "string", "to_port": "string", "evidence": "string", "since": "string"}


Devices = Mapping[int, Mapping[str, str]]


def graphml(links: Sequence[SeenLink], devices: Devices, ports: Mapping[int, str]) -> bytes:
    """Devices as nodes and links as edges.

    Parameters
    ----------
    devices : name, site and address of each device by its number
    ports : labels of interfaces by their number
    """
    root = Tree.Element("graphml", xmlns=NAMESPACE)
    for of, keys in (("node", NODE_KEYS), ("edge", EDGE_KEYS)):
        for name, kind in keys.items():
            Tree.SubElement(root, "key", {"id": name, "for": of, "attr.name": name, "attr.type": kind})
    graph = Tree.SubElement(root, "graph", id="network", edgedefault="undirected")
    joined = {end.device for each in links for end in (each.link.a, each.link.b)}
    for number in sorted(joined & devices.keys()):
        _with_data(Tree.SubElement(graph, "node", id=f"device-{number}"), devices[number])
    for place, each in enumerate(links):
        a, b = each.link.a, each.link.b
        edge = Tree.SubElement(
            graph, "edge", id=f"link-{place}", source=f"device-{a.device}", target=f"device-{b.device}"
        )
        told = {"from_port": _port(a, ports), "to_port": _port(b, ports), "evidence": each.link.evidence}
        _with_data(edge, {**told, "since": each.since.isoformat()})
    Tree.indent(root)
    text: bytes = Tree.tostring(root, encoding="utf-8", xml_declaration=True)
    return text


def as_json(links: Sequence[SeenLink], devices: Devices, ports: Mapping[int, str]) -> bytes:
    """Devices, and links with both ends; the same as GraphML has."""
    joined = sorted({end.device for each in links for end in (each.link.a, each.link.b)} & devices.keys())
    ends = [
        {
            **{
                name: {"device": devices[end.device]["name"], "port": _port(end, ports)}
                for name, end in (("from", each.link.a), ("to", each.link.b))
            },
            "evidence": each.link.evidence,
            "contradiction": each.link.contradiction,
            "since": each.since.isoformat(),
        }
        for each in links
    ]
    return orjson.dumps(
        {"devices": [dict(devices[number]) for number in joined], "links": ends}, option=orjson.OPT_INDENT_2
    )


def as_csv(links: Sequence[SeenLink], devices: Devices, ports: Mapping[int, str]) -> bytes:
    """A line a link, with the columns that links by hand are read from; how it is known stands as the note."""
    lines = [csv_line(COLUMNS)]
    for each in links:
        a, b = each.link.a, each.link.b
        ends = [devices[a.device]["name"], _port(a, ports), devices[b.device]["name"], _port(b, ports)]
        lines.append(csv_line([*ends, each.link.evidence]))
    return "".join(lines).encode()


def _port(end: End, ports: Mapping[int, str]) -> str:
    return ports.get(end.port, "") if end.port is not None else ""


def _with_data(element: Tree.Element, data: Mapping[str, str]) -> None:
    for key, value in data.items():
        if value:
            Tree.SubElement(element, "data", key=key).text = value


FORMS: dict[str, tuple[Callable[[Sequence[SeenLink], Devices, Mapping[int, str]], bytes], str]] = {
    "graphml": (graphml, "application/graphml+xml"),
    "json": (as_json, "application/json"),
    "csv": (as_csv, "text/csv; charset=utf-8"),
}
"""How links are written, by the ending of the file: by what, and its type."""
