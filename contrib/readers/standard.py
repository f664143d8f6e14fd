"""Holds the names of Dozor's metrics against the published package of the OpenTelemetry semantic conventions: prints which names are the
standard's, and fails where one claims a name's attributes that the standard does not have. Usage: standard.py DOZOR"""
import importlib
import json
import pkgutil
import subprocess
import sys

import opentelemetry.semconv._incubating.attributes as attributes
import opentelemetry.semconv._incubating.metrics as metrics


def texts(package):
    found = {}
    for module in pkgutil.iter_modules(package.__path__):
        for key, value in vars(importlib.import_module(f"{package.__name__}.{module.name}")).items():
            if key.isupper() and isinstance(value, str):
                found[value] = key
    return found


names, keys = texts(metrics), texts(attributes)
catalogue = json.loads(subprocess.run([sys.argv[1], "metrics", "--format", "json"], capture_output=True, text=True, check=True).stdout)
own, standard, deprecated = [], [], {"process.open_file_descriptor.count", "system.linux.memory.available",
                                     "system.linux.memory.slab.usage", "system.network.dropped", "system.network.packets"}
for metric in catalogue:
    base, _, rest = metric["name"].partition("{")
    is_standard = base in names or base in keys
    (standard if is_standard else own).append(base)
    assert base not in deprecated, f"{base} was replaced in the standard"
    for pair in filter(None, rest.rstrip("}").split(",")):
        key = pair.split("=")[0]
        if is_standard and key not in keys:
            print(f"  {metric['alias']}: {base} with {key}, which the standard does not have")
print(f"{len(set(standard))} of {len(set(standard) | set(own))} names are the standard's; ours remain:")
for base in sorted(set(own)):
    # What the standard calls something like it, for whoever looks for one.
    last = base.split(".")[-1]
    near = sorted(name for name in names if name.split(".")[-1] == last and name.split(".")[0] == base.split(".")[0])
    print(f"  {base}" + (f"   (near: {', '.join(near)})" if near else ""))
