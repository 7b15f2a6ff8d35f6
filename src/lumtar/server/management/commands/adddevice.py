"""``manage adddevice ADDRESS``: add a device from the command line."""

import sys
from getpass import getpass
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.services import add_device
from lumtar.wire import usm


def secret_of(question: str) -> str:
    """Ask for a secret: at a terminal unseen, else one line of the input. On the command line every user could read it."""
    return getpass(f"{question}: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\r\n")


class Command(BaseCommand):
    """Add a device with its credential; the collector polls it within seconds."""

    help = "Add a device; the running collector polls it within seconds. Its community or passwords are asked for."

    def add_arguments(self, parser: CommandParser) -> None:
        """Take the device and how it is spoken to."""
        parser.add_argument("address", help="name, IPv4 or IPv6 address")
        parser.add_argument("--port", type=int, default=161)
        parser.add_argument("--name", default="", help="default: what the device calls itself")
        parser.add_argument("--site", default="")
        parser.add_argument("--interval", type=int, default=60, help="seconds between polls")
        parser.add_argument("--snmp", choices=["1", "2c"], default="2c", help="version, where there is a community")
        parser.add_argument("--user", help="SNMP version 3, with this user")
        parser.add_argument("--auth", default="", help=", ".join(usm.AuthProtocol))
        parser.add_argument("--priv", default="", help=", ".join(usm.PrivProtocol))

    def handle(self, *args: object, **options: Any) -> None:
        """Add it."""
        if options["user"]:
            kind, secret = "v3", {name: options[name] for name in ("user", "auth", "priv")}
            for name in ("auth", "priv"):
                secret[f"{name}_password"] = secret_of(f"Password for {name}") if options[name] else ""
        else:
            kind, secret = f"v{options['snmp']}", {"community": secret_of("Community")}
        try:
            device = add_device(
                options["address"],
                port=options["port"],
                name=options["name"],
                site=options["site"],
                kind=kind,
                secret=secret,
                interval_s=options["interval"],
                by="the command line",
            )
        except Refusal as error:
            raise CommandError(str(error)) from error
        self.stdout.write(f"{device.name} is added as device {device.pk}; it is polled within seconds.")
