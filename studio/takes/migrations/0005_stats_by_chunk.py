"""What was measured goes to the chunks that it was measured in; takes get the digest of what they depend on."""

from django.db import migrations, models


def to_chunks(apps, schema_editor):
    for take in apps.get_model("takes", "Take").objects.iterator(chunk_size=20):
        first = take.chunks.order_by("first_frame").first()
        if first:
            first.stats = {"added": take.added, "measures": take.measures}
            first.save(update_fields=["stats"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0004_measures"), ("characters", "0002_small_versions")]

    operations = [
        migrations.AddField("take", "digest", models.CharField(blank=True, db_index=True, default="", max_length=64), preserve_default=False),
        migrations.AddField("takechunk", "stats", models.JSONField(default=dict)),
        migrations.RunPython(to_chunks, migrations.RunPython.noop),
        migrations.RemoveField("take", "added"),
        migrations.RemoveField("take", "measures"),
    ]
