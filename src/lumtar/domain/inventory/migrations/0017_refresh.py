from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("inventory", "0016_subgroups")]

    operations = [
        migrations.AddField("devicestate", "refresh_kind", models.CharField(default="unknown", max_length=12)),
        migrations.AddField("devicestate", "refresh_low_s", models.FloatField(default=0.0)),
        migrations.AddField("devicestate", "refresh_high_s", models.FloatField(default=0.0)),
    ]
