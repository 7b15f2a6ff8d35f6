from django.db import migrations


def create(apps, schema_editor):
    """A new installation watches something from its first minute."""
    rules = apps.get_model("alarms", "Rule").objects
    rules.get_or_create(name="Utilisation", defaults={"type": "utilisation"})
    rules.get_or_create(name="Reachability", defaults={"type": "unreachable", "readings": 2, "severity": 5})


class Migration(migrations.Migration):
    dependencies = [("alarms", "0001_initial")]
    operations = [migrations.RunPython(create, migrations.RunPython.noop)]
