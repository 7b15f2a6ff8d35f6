import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("alarms", "0005_rules_of_any_measure")]
    operations = [
        migrations.RemoveConstraint("alarm", "one_alarm_a_resource_and_type"),
        migrations.DeleteModel("RuleMemory"),
        migrations.RemoveField("rule", "type"),
        migrations.RemoveField("rule", "limit_percent"),
        migrations.RemoveField("rule", "clear_percent"),
        migrations.RemoveField("rule", "readings"),
        migrations.RemoveField("rule", "severity"),
        migrations.RemoveField("alarm", "text"),
        migrations.RemoveField("alarmchange", "text"),
        migrations.AlterField("rule", "measure", models.CharField(max_length=40)),
        migrations.AlterField("rule", "scope", models.CharField(max_length=1000, blank=True)),
        migrations.AlterField("alarm", "resource_kind", models.CharField(max_length=16)),
        migrations.AlterField("alarm", "resource_id", models.BigIntegerField()),
        migrations.AlterField("alarm", "label", models.CharField(max_length=300)),
        migrations.AlterField("alarm", "site", models.CharField(max_length=120, blank=True)),
        migrations.AlterField("alarm", "type", models.CharField(max_length=40)),
        migrations.AlterField(
            "alarm",
            "device",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="alarms", to="inventory.device"
            ),
        ),
        migrations.AlterField(
            "alarm",
            "interface",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="alarms", to="inventory.interface"
            ),
        ),
        migrations.AlterField("alarmchange", "facts", models.JSONField()),
        migrations.AddConstraint(
            "alarm",
            models.UniqueConstraint(
                fields=["resource_kind", "resource_id", "type", "qualifier"], name="one_alarm_a_resource_and_type"
            ),
        ),
        migrations.CreateModel(
            name="RuleMemory",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("subject", models.CharField(max_length=16)),
                ("pairs", models.BinaryField()),
            ],
            options={"indexes": [models.Index(fields=["subject", "id"], name="alarms_rule_subject_cd89f5_idx")]},
        ),
    ]
