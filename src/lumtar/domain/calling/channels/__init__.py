"""The channels by which messages go out. A further one is a module here that registers itself."""

from lumtar.domain.calling.channels import mail, script, service, syslog, trap
from lumtar.domain.calling.channels.registry import CHANNELS, Channel, Message, Undelivered

__all__ = ["CHANNELS", "Channel", "Message", "Undelivered", "mail", "script", "service", "syslog", "trap"]
