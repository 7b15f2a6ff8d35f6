"""Every profile reads neighbours from now on, and so do the devices that have it; who does not want it takes it out."""

from django.db import migrations

NEIGHBOURS = "neighbours"


def with_neighbours(apps, schema_editor):
    for profile in apps.get_model("inventory", "Profile").objects.all():
        if NEIGHBOURS not in profile.tables:
            profile.tables = [*profile.tables, NEIGHBOURS]
            profile.save(update_fields=["tables"])
    for device in apps.get_model("inventory", "Device").objects.exclude(reads={}):
        tables = device.reads.get("tables")
        if tables is not None and NEIGHBOURS not in tables:
            device.reads = {**device.reads, "tables": [*tables, NEIGHBOURS]}
            device.save(update_fields=["reads"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0019_duplex_over_time")]

    operations = [migrations.RunPython(with_neighbours, migrations.RunPython.noop)]
