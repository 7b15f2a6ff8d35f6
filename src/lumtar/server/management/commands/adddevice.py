"""``manage adddevice ADDRESS``: add a device from the command line."""

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from lumtar.domain.inventory.services import add_device
from lumtar.wire import usm


class Command(BaseCommand):
    """Add a device with its credential; the collector polls it within seconds."""

    help = "Add a device; the running collector polls it within seconds."

    def add_arguments(self, parser: CommandParser) -> None:
        """Take the device and how it is spoken to."""
        parser.add_argument("address", help="name, IPv4 or IPv6 address")
        parser.add_argument("--port", type=int, default=161)
        parser.add_argument("--name", default="", help="default: what the device calls itself")
        parser.add_argument("--site", default="")
        parser.add_argument("--interval", type=int, default=60, help="seconds between polls")
        parser.add_argument("--community", help="SNMP version 1 or 2c")
        parser.add_argument("--snmp", choices=["1", "2c"], default="2c", help="with --community")
        parser.add_argument("--user", help="SNMP version 3")
        parser.add_argument("--auth", default="", help=", ".join(usm.AuthProtocol))
        parser.add_argument("--auth-password", default="")
        parser.add_argument("--priv", default="", help=", ".join(usm.PrivProtocol))
        parser.add_argument("--priv-password", default="")

    def handle(self, *args: object, **options: Any) -> None:
        """Add it."""
        if bool(options["community"]) == bool(options["user"]):
            raise CommandError("Give either --community or --user.")
        if options["community"]:
            kind, secret = f"v{options['snmp']}", {"community": options["community"]}
        else:
            kind, secret = (
                "v3",
                {name: options[name] for name in ("user", "auth", "auth_password", "priv", "priv_password")},
            )
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
        except ValueError as error:
            raise CommandError(str(error)) from error
        self.stdout.write(f"{device.name} is added as device {device.pk}; it is polled within seconds.")
