from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("alarms", "0006_without_what_was_carried_over")]

    operations = [
        migrations.AddField("rule", "window_s", models.PositiveIntegerField(default=0)),
        migrations.AddField("rule", "instructions", models.TextField(blank=True, default="", max_length=2000)),
        migrations.AlterField("rule", "instructions", models.TextField(blank=True, max_length=2000)),
    ]
