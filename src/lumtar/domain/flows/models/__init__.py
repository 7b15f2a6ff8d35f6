"""What is stored of flows."""

from lumtar.domain.flows.models.captures import Capture
from lumtar.domain.flows.models.named import AddressName, OwnApplication, PrefixTable
from lumtar.domain.flows.models.responses import DeclaredField, ResponseHour, ResponseMinute, ResponseTime
from lumtar.domain.flows.models.stored import (
    Conversation,
    Exporter,
    Hour,
    Minute,
    NetworkHour,
    Record,
    Recording,
    RecordLook,
)
from lumtar.domain.flows.models.watched import AddressList, FanOut, FirstSeen, Stranger, WatchedTraffic

__all__ = [
    "AddressList",
    "AddressName",
    "Capture",
    "Conversation",
    "DeclaredField",
    "Exporter",
    "FanOut",
    "FirstSeen",
    "Hour",
    "Minute",
    "NetworkHour",
    "OwnApplication",
    "PrefixTable",
    "Record",
    "RecordLook",
    "Recording",
    "ResponseHour",
    "ResponseMinute",
    "ResponseTime",
    "Stranger",
    "WatchedTraffic",
]
