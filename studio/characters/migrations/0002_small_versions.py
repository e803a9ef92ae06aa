"""Versions become small documents, with long texts as blobs that are stored once."""


from django.db import migrations, models

from studio.characters import versions
from quiver.setup import document as setup_document


def shrink(apps, schema_editor):
    version_model, blob_model = apps.get_model("characters", "SetupVersion"), apps.get_model("characters", "Blob")
    for version in version_model.objects.iterator(chunk_size=20):
        data, texts = versions.packed(setup_document.from_document(version.document))
        blobs = [blob_model.objects.get_or_create(digest=d, defaults={"data": versions.text_bytes(t)})[0] for d, t in texts.items()]
        version.data = data
        version.save(update_fields=["data"])
        version.blobs.set(blobs)


class Migration(migrations.Migration):
    dependencies = [("characters", "0001_initial")]

    operations = [
        migrations.CreateModel(
            name="Blob",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("digest", models.CharField(max_length=64, unique=True)),
                ("data", models.BinaryField()),
            ],
        ),
        migrations.AddField("setupversion", "data", models.BinaryField(default=b""), preserve_default=False),
        migrations.AddField("setupversion", "blobs", models.ManyToManyField(related_name="versions", to="characters.blob")),
        migrations.RunPython(shrink, migrations.RunPython.noop),
        migrations.RemoveField("setupversion", "document"),
    ]
