import django.db.models.deletion
from django.db import migrations, models

SEVERITIES = [(0, "cleared"), (1, "indeterminate"), (2, "warning"), (3, "minor"), (4, "major"), (5, "critical")]


class Migration(migrations.Migration):
    dependencies = [("alarms", "0007_windows_and_instructions")]

    operations = [
        migrations.CreateModel(
            name="AlarmAction",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("at", models.DateTimeField()),
                ("by", models.CharField(max_length=150)),
                (
                    "kind",
                    models.CharField(
                        choices=[
                            ("acknowledge", "acknowledged"),
                            ("unacknowledge", "acknowledgement taken back"),
                            ("shelve", "shelved"),
                            ("unshelve", "taken off the shelf"),
                            ("comment", "comment"),
                        ],
                        max_length=16,
                    ),
                ),
                ("text", models.CharField(blank=True, max_length=1000)),
                ("until", models.DateTimeField(null=True)),
                ("severity", models.SmallIntegerField(choices=SEVERITIES)),
                (
                    "alarm",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="actions", to="alarms.alarm"
                    ),
                ),
            ],
            options={"indexes": [models.Index(fields=["alarm", "-at"], name="alarms_alar_alarm_i_6251f6_idx")]},
        ),
    ]
