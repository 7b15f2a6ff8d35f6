"""Faults by name: what can be put into the stand-in network and taken out again."""

import time
from collections.abc import Callable

from lab.controller import Controller, Manner
from lab.device import Device, Manners
from lab.lldp import Cabling
from lab.paths import Reflectors, Worse
from lab.receivers import Receivers
from lab.services import Services

HELP = """faults (each with `clear` instead of its values takes it out):
  link DEVICE PORT down|up          pull a cable, plug it in
  exchange DEVICE PORT DEVICE PORT  two cables change places at their far ends
  move DEVICE PORT DEVICE PORT      who sits at the first port sits at the second one
  oneway DEVICE PORT on             nothing arrives at a port, though it sends
  duplex DEVICE PORT half           the port negotiated half duplex
  mtu DEVICE PORT OCTETS            the largest packet of a port
  vlan DEVICE PORT VLAN             a VLAN is missing on a port that leads on
  loop DEVICE on                    two ports are joined, and the spanning tree does not see it
  power DEVICE|SITE off|on          no power: no answers, and the links to it are down
  silent DEVICE on                  no answers
  restart DEVICE                    sysUpTime and counters start over
  wrap DEVICE PORT                  octet counters pass their end within about half a minute
  errors DEVICE PORT PER_SECOND     a burst of bad frames
  share DEVICE PORT IN% OUT%        traffic at a share of the (sold) speed
  slow DEVICE SECONDS               late answers
  lossy DEVICE SHARE                lost answers, 0 to 1
  lazy DEVICE SECONDS               counters are refreshed only so often
  cached DEVICE SECONDS             counters are looked up anew by a read once they are so old
  garble DEVICE short|number|twice|address
                                    answers cut short, with a wrong number, twice, from another address
  flows DEVICE lose SHARE|sample N|skew SECONDS|templates off|in only
                                    records get lost, are sampled in silence, misdated, without templates, of one direction
  stranger DEVICE on                somebody with an address of nowhere sits behind a router
  scan DEVICE on                    somebody behind a router tries every address of Central
  path SITE out|back|both delay MS|jitter MS|loss SHARE|reorder SHARE|duplicate SHARE
                                    the way between the prober and a branch gets worse, one direction or both
  service catalogue|films|names|echo ms N|status N|off|clear
                                    what probes of services meet
  controller slow SECONDS|status N|garbage|half|policy CLASS A|B|clear
                                    what the overlay's controller says, and how
  server PORT MS                    the service at a port takes so many milliseconds for an answer, wherever it is seen
  tunnel DEVICE NUMBER down         a tunnel of a firewall goes down
  pair DEVICE broken                the firewall could not take over from the other one
  clear DEVICE                      take everything out of a device
  receivers fail N                  the next N web requests of messages are refused
  receivers silent on|off           inform requests are not confirmed
  show                              what is in force
PORT is a port's name or its ifIndex."""


class FaultRefused(Exception):
    """A command that cannot be carried out, in words."""


def carry_out(
    devices: dict[str, Device],
    command: dict[str, object],
    receivers: Receivers | None = None,
    cabling: Cabling | None = None,
    reflectors: Reflectors | None = None,
    probed: Services | None = None,
    controller: Controller | None = None,
) -> str:
    """Put one fault in or take it out.

    Raises
    ------
    FaultRefused
    """
    words = [str(word) for word in command.get("words", [])]  # type: ignore[attr-defined]
    if words == ["show"]:
        return show(devices)
    if words[:1] == ["receivers"] and receivers is not None:
        return _of_receivers(receivers, words[1:])
    if words[:1] == ["path"] and reflectors is not None:
        return _of_path(reflectors, words[1:])
    if words[:1] == ["service"] and probed is not None:
        return _of_service(probed, words[1:])
    if words[:1] == ["controller"] and controller is not None:
        return _of_controller(controller, words[1:])
    if words[:1] == ["server"]:
        return _of_server(devices, words[1:])
    if words[:1] in (["exchange"], ["move"]) and cabling is not None:
        return _of_cables(devices, cabling, words)
    if len(words) < 2 or words[0] not in ACTIONS:
        raise FaultRefused(f"there is no fault {' '.join(words)!r}\n{HELP}")
    meant = [devices[words[1]]] if words[1] in devices else []
    if words[0] == "power":
        meant = meant or [device for device in devices.values() if device.box.site == words[1]]
    if not meant:
        raise FaultRefused(f"there is no device {words[1]!r}")
    try:
        for device in meant:
            ACTIONS[words[0]](device, words[2:])
    except (IndexError, ValueError, KeyError) as error:
        raise FaultRefused(f"{' '.join(words)}: {error}\n{HELP}") from error
    if cabling is not None and words[0] in TOLD_ANEW:
        cabling.renew()
    return f"{' '.join(words)}: done"


TOLD_ANEW = ("oneway", "mtu", "vlan", "restart", "clear")
"""What else a device tells follows from these."""


WORSE = {"delay": ("delay_ms", 2000.0), "jitter": ("jitter_ms", 1000.0)} | {
    name: (name, 1.0) for name in ("loss", "reorder", "duplicate")
}


def _of_path(reflectors: Reflectors, words: list[str]) -> str:
    try:
        site, direction, *rest = words
        ways = reflectors.ends[site].worse
        for name in ("out", "back") if direction in ("both", "clear") else (direction,):
            if direction == "clear" or rest == ["clear"]:
                ways[name] = Worse()
                continue
            what, value = rest
            field, most = WORSE[what]
            if name not in ways:
                raise ValueError(f"{name} is no direction")
            setattr(ways[name], field, _amount(value, 0, most))
    except (ValueError, KeyError) as error:
        raise FaultRefused(f"path {' '.join(words)}: {error}\n{HELP}") from error
    return f"path {' '.join(words)}: done"


def _of_controller(controller: Controller, words: list[str]) -> str:
    manner = controller.manner
    try:
        match words:
            case ["slow", seconds]:
                manner.slow_s = _amount(seconds, 0, 600)
            case ["status", value]:
                manner.status = int(_amount(value, 100, 599))
            case ["garbage"]:
                manner.garbage = True
            case ["half"]:
                manner.half = True
            case ["policy", name, ("A" | "B") as line]:
                if name not in manner.preferred:
                    raise ValueError(f"there is no policy for {name}")
                manner.preferred[name], manner.changed[name] = line, time.time()
            case ["clear"]:
                controller.manner = Manner()
            case _:
                raise ValueError(f"the controller cannot be {' '.join(words)!r}")
    except ValueError as error:
        raise FaultRefused(f"controller {' '.join(words)}: {error}\n{HELP}") from error
    return f"controller {' '.join(words)}: done"


def _of_service(probed: Services, words: list[str]) -> str:
    try:
        name, *rest = words
        state = probed.conditions[name]
        match rest:
            case ["ms", value]:
                state.ms = _amount(value, 0, 60_000)
            case ["status", value]:
                state.status = int(_amount(value, 100, 599))
            case ["off"]:
                state.is_off = True
            case ["clear"]:
                state.ms, state.status, state.is_off = state.usual_ms, 200, False
            case _:
                raise ValueError(f"a service cannot be {' '.join(rest)!r}")
    except (ValueError, KeyError) as error:
        raise FaultRefused(f"service {' '.join(words)}: {error}\n{HELP}") from error
    return f"service {' '.join(words)}: done"


def _of_server(devices: dict[str, Device], words: list[str]) -> str:
    try:
        number, ms = words
        port = int(_amount(number, 1, 65535))
        for device in devices.values():
            if ms == "clear":
                device.manners.slow_services.pop(port, None)
            else:
                device.manners.slow_services[port] = _amount(ms, 0, 600_000)
    except ValueError as error:
        raise FaultRefused(f"server {' '.join(words)}: {error}\n{HELP}") from error
    return f"server {' '.join(words)}: done"


def _of_cables(devices: dict[str, Device], cabling: Cabling, words: list[str]) -> str:
    try:
        what, name, port, other, other_port = words
        one, two = (name, _port(devices[name], port)), (other, _port(devices[other], other_port))
        if what == "exchange":
            cabling.exchange(one, two)
        else:
            cabling.switching.moved[one] = two
            cabling.renew()
    except (KeyError, ValueError) as error:
        raise FaultRefused(f"{' '.join(words)}: {error}\n{HELP}") from error
    return f"{' '.join(words)}: done"


def _of_receivers(receivers: Receivers, words: list[str]) -> str:
    match words:
        case ["fail", count] if count.isdecimal():
            receivers.fail_next = int(count)
        case ["silent", "on" | "off" as switch]:
            receivers.confirms = switch == "off"
        case _:
            raise FaultRefused(HELP)
    return f"receivers {' '.join(words)}: done"


def _port(device: Device, word: str) -> int:
    for port in device.box.ports:
        if word in (port.name, str(port.index)):
            return port.index
    raise KeyError(f"{device.box.name} has no port {word}")


def _amount(word: str, least: float, most: float) -> float:
    value = float(word)
    if not least <= value <= most:
        raise ValueError(f"{word} is not between {least:g} and {most:g}")
    return value


def _link(device: Device, words: list[str]) -> None:
    if words[1] not in ("up", "down", "clear"):
        raise ValueError("a link goes up or down")
    device.set_link(_port(device, words[0]), words[1] != "down")


def _power(device: Device, words: list[str]) -> None:
    if words[0] not in ("off", "on", "clear"):
        raise ValueError("power is on or off")
    device.set_power(words[0] != "off")


def _oneway(device: Device, words: list[str]) -> None:
    device.fault(_port(device, words[0])).is_deaf = words[1] != "clear"


def _duplex(device: Device, words: list[str]) -> None:
    if words[1] not in ("half", "full", "clear"):
        raise ValueError("duplex is half or full")
    device.fault(_port(device, words[0])).is_half = words[1] == "half"


def _mtu(device: Device, words: list[str]) -> None:
    device.fault(_port(device, words[0])).mtu = 0 if words[1] == "clear" else int(_amount(words[1], 64, 65535))


def _vlan(device: Device, words: list[str]) -> None:
    port = _port(device, words[0])
    if words[1] == "clear":
        device.missing_vlans.pop(port, None)
    else:
        device.missing_vlans.setdefault(port, set()).add(int(_amount(words[1], 1, 4094)))


def _loop(device: Device, words: list[str]) -> None:
    device.is_looped, device.looped_since = words[0] != "clear", device.clock()


def _silent(device: Device, words: list[str]) -> None:
    device.manners.silent = words[0] != "clear"


def _share(device: Device, words: list[str]) -> None:
    port = _port(device, words[0])
    if words[1] == "clear":
        device.set_share(port, None, None)
    else:
        device.set_share(port, _amount(words[1], 0, 100), _amount(words[2], 0, 100))


def _errors(device: Device, words: list[str]) -> None:
    device.set_errors(_port(device, words[0]), 0.0 if words[1] == "clear" else _amount(words[1], 0, 1e6))


def _manner(name: str, most: float) -> Callable[[Device, list[str]], None]:
    def put(device: Device, words: list[str]) -> None:
        setattr(device.manners, name, 0.0 if words[0] == "clear" else _amount(words[0], 0, most))

    return put


def _garble(device: Device, words: list[str]) -> None:
    names = {"short": "cut_short", "number": "wrong_number", "twice": "twice", "address": "other_address"}
    for word, name in names.items():
        if words[0] == "clear":
            setattr(device.manners, name, False)
        elif words[0] == word:
            setattr(device.manners, name, True)
    if words[0] not in (*names, "clear"):
        raise ValueError(f"answers cannot be garbled {words[0]!r}")


def _flows(device: Device, words: list[str]) -> None:
    manners = device.manners
    match words:
        case ["lose", share]:
            manners.flow_loss = _amount(share, 0, 1)
        case ["sample", number]:
            manners.flow_sampling = _amount(number, 1, 100_000)
        case ["skew", seconds]:
            manners.flow_skew = _amount(seconds, -1e6, 1e6)
        case ["templates", "off"]:
            manners.flow_no_templates = True
        case ["in", "only"]:
            manners.flow_in_only = True
        case ["clear"]:
            manners.flow_loss = manners.flow_sampling = manners.flow_skew = 0.0
            manners.flow_no_templates = manners.flow_in_only = False
        case _:
            raise ValueError(f"flows cannot be spoilt by {' '.join(words)!r}")


def _tunnel(device: Device, words: list[str]) -> None:
    number = int(_amount(words[0], 1, 1000))
    if words[1] not in ("down", "clear"):
        raise ValueError("a tunnel goes down")
    (device.manners.tunnels_down.add if words[1] == "down" else device.manners.tunnels_down.discard)(number)


def _odd(name: str) -> Callable[[Device, list[str]], None]:
    def put(device: Device, words: list[str]) -> None:
        setattr(device.manners, name, words[0] != "clear")

    return put


def _clear(device: Device, words: list[str]) -> None:
    device.manners = Manners()
    for index, fault in list(device.faults.items()):
        if fault.share_bps is not None:
            device.set_share(index, None, None)
        if fault.down:
            device.set_link(index, True)
        device.set_errors(index, 0.0)
        fault.is_half, fault.is_deaf, fault.mtu = False, False, 0
    device.missing_vlans, device.is_looped = {}, False


ACTIONS: dict[str, Callable[[Device, list[str]], None]] = {
    "link": _link,
    "power": _power,
    "silent": _silent,
    "restart": lambda device, words: device.restart(),
    "wrap": lambda device, words: device.near_wrap(_port(device, words[0])),
    "errors": _errors,
    "share": _share,
    "slow": _manner("delay", 60.0),
    "lossy": _manner("loss", 1.0),
    "lazy": _manner("refresh", 3600.0),
    "cached": _manner("cached", 3600.0),
    "garble": _garble,
    "tunnel": _tunnel,
    "pair": _odd("pair_broken"),
    "oneway": _oneway,
    "duplex": _duplex,
    "mtu": _mtu,
    "vlan": _vlan,
    "loop": _loop,
    "flows": _flows,
    "stranger": _odd("has_stranger"),
    "scan": _odd("has_scan"),
    "clear": _clear,
}


def show(devices: dict[str, Device]) -> str:
    """What is in force, a line a device."""
    lines = []
    for name, device in devices.items():
        plain = Manners()
        matching = [
            f"{field}={getattr(device.manners, field)}"
            for field in Manners.__dataclass_fields__
            if getattr(device.manners, field) != getattr(plain, field)
        ]
        for index, fault in device.faults.items():
            if fault.down:
                matching.append(f"port {index} down")
            if fault.share_bps:
                matching.append(f"port {index} pinned")
            if fault.errors_per_second:
                matching.append(f"port {index} {fault.errors_per_second:g} errors/s")
        if matching:
            lines.append(f"{name}: {', '.join(matching)}")
    return "\n".join(lines) or "nothing"
