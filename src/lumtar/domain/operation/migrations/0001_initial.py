from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = []

    operations = [
        migrations.CreateModel(
            name="Process",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=40, unique=True)),
                ("started_at", models.DateTimeField()),
                ("beat_at", models.DateTimeField()),
                ("detail", models.JSONField(default=dict)),
            ],
        ),
    ]
