from django.db import migrations, models


class Migration(migrations.Migration):
    """Two directions become five."""

    dependencies = [("alarms", "0011_maintenance")]

    operations = [
        migrations.AddField(
            "rule",
            "direction",
            models.CharField(
                choices=[
                    ("above", "above"),
                    ("below", "below"),
                    ("outside", "outside"),
                    ("equal", "equal"),
                    ("changed", "changed"),
                ],
                default="above",
                max_length=8,
            ),
        ),
        migrations.RunSQL(
            "UPDATE alarms_rule SET direction = 'below' WHERE NOT above",
            "UPDATE alarms_rule SET above = false WHERE direction = 'below'",
        ),
        migrations.RemoveField("rule", "above"),
    ]
