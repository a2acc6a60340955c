"""Starts the agent in the script's interpreter: `python boot.py FD`.

FD is the socket to the host.  The host's `launch` comes first; then this process becomes the script.
"""

import sys


def main() -> None:
    import importlib.util
    import os

    here = os.path.dirname(os.path.abspath(__file__))
    name = "_uneven_sum_agent"
    spec = importlib.util.spec_from_file_location(
        name, os.path.join(here, "__init__.py"), submodule_search_locations=[here]
    )
    assert spec is not None and spec.loader is not None
    package = importlib.util.module_from_spec(spec)
    sys.modules[name] = package
    spec.loader.exec_module(package)
    fd = int(sys.argv[1])
    run = importlib.import_module(name + ".run")
    run.run(fd)


main()
