"""Links as GraphML (http://graphml.graphdrawing.org/specification.html), for whatever draws or computes graphs."""

from collections.abc import Mapping, Sequence
from xml.etree import ElementTree as Tree

from lumtar.core.topology import End
from lumtar.domain.topology.queries import SeenLink

NAMESPACE = "http://graphml.graphdrawing.org/xmlns"
NODE_KEYS = {"name": "string", "site": "string", "address": "string"}
EDGE_KEYS = {"from_port": "string", "to_port": "string", "evidence": "string", "since": "string"}


def graphml(links: Sequence[SeenLink], devices: Mapping[int, Mapping[str, str]], ports: Mapping[int, str]) -> bytes:
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


def _port(end: End, ports: Mapping[int, str]) -> str:
    return ports.get(end.port, "") if end.port is not None else ""


def _with_data(element: Tree.Element, data: Mapping[str, str]) -> None:
    for key, value in data.items():
        if value:
            Tree.SubElement(element, "data", key=key).text = value
