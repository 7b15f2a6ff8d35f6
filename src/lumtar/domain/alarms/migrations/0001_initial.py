import django.contrib.postgres.fields
import django.core.validators
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("inventory", "0001_initial"),
    ]

    operations = [
        migrations.CreateModel(
            name="Rule",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=120, unique=True)),
                (
                    "type",
                    models.CharField(
                        choices=[
                            ("utilisation", "utilisation above its limit"),
                            ("unreachable", "device does not answer"),
                        ],
                        default="utilisation",
                        max_length=16,
                    ),
                ),
                ("enabled", models.BooleanField(default=True)),
                ("limit_percent", models.FloatField(default=90)),
                ("clear_percent", models.FloatField(default=80)),
                ("readings", models.PositiveIntegerField(default=3)),
                (
                    "severity",
                    models.SmallIntegerField(
                        choices=[
                            (0, "cleared"),
                            (1, "indeterminate"),
                            (2, "warning"),
                            (3, "minor"),
                            (4, "major"),
                            (5, "critical"),
                        ],
                        default=4,
                    ),
                ),
                (
                    "mail_to",
                    django.contrib.postgres.fields.ArrayField(
                        base_field=models.CharField(
                            max_length=254, validators=[django.core.validators.EmailValidator()]
                        ),
                        blank=True,
                        default=list,
                        size=None,
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Alarm",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                (
                    "type",
                    models.CharField(
                        choices=[
                            ("utilisation", "utilisation above its limit"),
                            ("unreachable", "device does not answer"),
                        ],
                        max_length=16,
                    ),
                ),
                ("qualifier", models.CharField(blank=True, max_length=40)),
                ("is_cleared", models.BooleanField(default=False)),
                (
                    "severity",
                    models.SmallIntegerField(
                        choices=[
                            (0, "cleared"),
                            (1, "indeterminate"),
                            (2, "warning"),
                            (3, "minor"),
                            (4, "major"),
                            (5, "critical"),
                        ]
                    ),
                ),
                ("text", models.CharField(max_length=500)),
                ("raised_at", models.DateTimeField()),
                ("changed_at", models.DateTimeField()),
                (
                    "device",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="alarms", to="inventory.device"
                    ),
                ),
                (
                    "interface",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="alarms",
                        to="inventory.interface",
                    ),
                ),
                (
                    "rule",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="alarms", to="alarms.rule"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="AlarmChange",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("at", models.DateTimeField()),
                (
                    "severity",
                    models.SmallIntegerField(
                        choices=[
                            (0, "cleared"),
                            (1, "indeterminate"),
                            (2, "warning"),
                            (3, "minor"),
                            (4, "major"),
                            (5, "critical"),
                        ]
                    ),
                ),
                ("text", models.CharField(max_length=500)),
                (
                    "alarm",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="changes", to="alarms.alarm"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Notification",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("address", models.CharField(max_length=254)),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("pending", "waiting to be sent"),
                            ("sending", "being sent"),
                            ("sent", "sent"),
                            ("failed", "not sent"),
                        ],
                        default="pending",
                        max_length=8,
                    ),
                ),
                ("at", models.DateTimeField(auto_now_add=True)),
                ("sent_at", models.DateTimeField(null=True)),
                ("detail", models.CharField(blank=True, max_length=300)),
                (
                    "change",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="notifications",
                        to="alarms.alarmchange",
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="RuleMemory",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("over", models.PositiveSmallIntegerField()),
                ("interface", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to="inventory.interface")),
                ("rule", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to="alarms.rule")),
            ],
        ),
        migrations.AddIndex(
            model_name="alarmchange",
            index=models.Index(fields=["-at"], name="alarms_alar_at_4af17e_idx"),
        ),
        migrations.AddIndex(
            model_name="alarmchange",
            index=models.Index(fields=["alarm", "-at"], name="alarms_alar_alarm_i_1bc0a5_idx"),
        ),
        migrations.AddConstraint(
            model_name="notification",
            constraint=models.UniqueConstraint(fields=("change", "address"), name="one_mail_a_change_and_address"),
        ),
        migrations.AddIndex(
            model_name="alarm",
            index=models.Index(fields=["is_cleared", "-severity"], name="alarms_alar_is_clea_f08093_idx"),
        ),
        migrations.AddConstraint(
            model_name="alarm",
            constraint=models.UniqueConstraint(
                fields=("device", "interface", "type", "qualifier"),
                name="one_alarm_a_resource_and_type",
                nulls_distinct=False,
            ),
        ),
        migrations.AddConstraint(
            model_name="rulememory",
            constraint=models.UniqueConstraint(fields=("rule", "interface"), name="one_memory_a_rule_and_interface"),
        ),
    ]
