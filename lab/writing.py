"""What may be set on a stand-in by SNMP: ports and their power off and on, descriptions, a restart."""

from lab.device import Device
from lab.ports import IF, IFX
from lab.scenario import RESTART
from lumtar.wire import ber

ADMIN_STATUS, ALIAS, POE_ENABLE = (
    ber.suffix(ber.oid_body(oid)) for oid in (f"{IF}.7", f"{IFX}.18", "1.3.6.1.2.1.105.1.1.1.3")
)
RESTART_NUMBERS = ber.suffix(ber.oid_body(f"{RESTART}.0"))
WRONG_TYPE, WRONG_LENGTH, WRONG_VALUE, NO_CREATION, NOT_WRITABLE = 7, 8, 10, 11, 17


def write(device: Device, oid: bytes, tag: int, value: int | bytes) -> int:
    """Set an object. Returns the error status (RFC 3416 section 3)."""
    numbers = ber.suffix(oid)
    if numbers == RESTART_NUMBERS and device.box.family in ("acc", "core"):
        if value != 1:
            return WRONG_VALUE
        device.restart()
        return 0
    known = {port.index for port in device.box.ports}
    if device.mib.exact(oid, device.clock()) is None or numbers[-1] not in known:
        return NO_CREATION
    column, index = numbers[:-1], numbers[-1]
    if column == ADMIN_STATUS:
        if tag != ber.INTEGER or value not in (1, 2):
            return WRONG_VALUE if tag == ber.INTEGER else WRONG_TYPE
        device.fault(index).is_off = value == 2
        device.set_link(index, value == 1)
    elif column[:-1] == POE_ENABLE:
        if tag != ber.INTEGER or value not in (1, 2):
            return WRONG_VALUE if tag == ber.INTEGER else WRONG_TYPE
        device.fault(index).has_no_power = value == 2
    elif column == ALIAS:
        if not isinstance(value, bytes) or len(value) > 64:
            return WRONG_LENGTH
        device.described[index] = value.decode(errors="replace")
    else:
        return NOT_WRITABLE
    return 0
