"""Profiles that read neighbours read bridges and addresses as well from now on, and so do the devices that have them."""

from django.db import migrations

NEIGHBOURS, MORE = "neighbours", ("bridge", "addresses")


def with_more(tables):
    return [*tables, *(name for name in MORE if name not in tables)] if NEIGHBOURS in tables else tables


def extend(apps, schema_editor):
    for profile in apps.get_model("inventory", "Profile").objects.all():
        if (tables := with_more(profile.tables)) != profile.tables:
            profile.tables = tables
            profile.save(update_fields=["tables"])
    for device in apps.get_model("inventory", "Device").objects.exclude(reads={}):
        before = device.reads.get("tables")
        if before is not None and (tables := with_more(before)) != before:
            device.reads = {**device.reads, "tables": tables}
            device.save(update_fields=["reads"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0021_transports")]

    operations = [migrations.RunPython(extend, migrations.RunPython.noop)]
