"""Packs the package as a wheel (PEP 427) with what Python itself brings, so that nothing is fetched."""

import base64
import glob
import hashlib
import os
import re
import sys
import zipfile

text = open("pyproject.toml").read()
name = re.search(r'name = "([^"]+)"', text).group(1)
version = re.search(r'version = "([^"]+)"', text).group(1).replace("-dev.", ".dev").replace(".here", "+here")
info = f"{name}-{version}.dist-info"
files = {path: open(path, "rb").read() for path in sorted(glob.glob(f"{name}/*.py"))}
files[f"{info}/METADATA"] = f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\nRequires-Python: >=3.9\n".encode()
files[f"{info}/WHEEL"] = b"Wheel-Version: 1.0\nGenerator: smoker\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
record = "".join(
    "{},sha256={},{}\n".format(path, base64.urlsafe_b64encode(hashlib.sha256(body).digest()).rstrip(b"=").decode(), len(body))
    for path, body in files.items()
)
files[f"{info}/RECORD"] = (record + f"{info}/RECORD,,\n").encode()
os.makedirs(sys.argv[1], exist_ok=True)
target = os.path.join(sys.argv[1], f"{name}-{version}-py3-none-any.whl")
with zipfile.ZipFile(target, "w") as wheel:
    for path, body in files.items():
        wheel.writestr(zipfile.ZipInfo(path, (2026, 1, 1, 0, 0, 0)), body)
print(target, os.path.getsize(target), "bytes")
