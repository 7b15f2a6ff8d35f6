import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("inventory", "0001_initial"),
    ]

    operations = [
        migrations.CreateModel(
            name="Entry",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("at", models.DateTimeField()),
                (
                    "kind",
                    models.CharField(
                        choices=[
                            ("state", "interface state"),
                            ("speed", "interface speed"),
                            ("restart", "device restarted"),
                            ("inventory", "interfaces came, went or were renamed"),
                            ("reach", "reachability"),
                            ("user", "user action"),
                        ],
                        max_length=12,
                    ),
                ),
                ("text", models.CharField(max_length=400)),
                (
                    "device",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="entries",
                        to="inventory.device",
                    ),
                ),
                (
                    "interface",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="entries",
                        to="inventory.interface",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(fields=["-at"], name="logbook_ent_at_1ea149_idx"),
                    models.Index(fields=["device", "-at"], name="logbook_ent_device__2fafb5_idx"),
                ],
            },
        ),
    ]
