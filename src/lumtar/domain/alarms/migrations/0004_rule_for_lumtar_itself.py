from django.db import migrations


def create(apps, schema_editor):
    """What Lumtar itself does not do is an alarm from the first minute."""
    apps.get_model("alarms", "Rule").objects.get_or_create(
        name="Lumtar itself", defaults={"type": "lumtar", "readings": 1, "severity": 4}
    )


class Migration(migrations.Migration):
    dependencies = [("alarms", "0003_lumtar_itself")]
    operations = [migrations.RunPython(create, migrations.RunPython.noop)]
