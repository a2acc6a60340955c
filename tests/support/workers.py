"""Scripts that start processes, by each way there is."""

from __future__ import annotations

import subprocess
import time

from driving import slowness

FLOW = "def flow(k):\n    head = float(k)\n    return 1e308 * head\n"
POOL = "    with {context}.Pool(2) as pool:\n        found = list(pool.imap(flow, range(8)))\n"
EXECUTOR = (
    "    with ProcessPoolExecutor(2, mp_context={context}) as pool:\n        found = list(pool.map(flow, range(8)))\n"
)
PROCESS = "    one = {context}.Process(target=flow, args=(3,))\n    one.start()\n    one.join()\n"
KINDS = {
    f"{name} by {method}": (text, method)
    for method in ("fork", "spawn", "forkserver")
    for name, text in {"pool": POOL, "executor": EXECUTOR, "process": PROCESS}.items()
}
FORK = "    pid = os.fork()\n    if pid == 0:\n        flow(3)\n        os._exit(0)\n    os.waitpid(pid, 0)\n"
JOBLIB = "    from joblib import Parallel, delayed\n    found = Parallel(2)(delayed(flow)(k) for k in range(8))\n"
DASK = (
    "    from dask.distributed import Client, LocalCluster\n"
    "    with LocalCluster(n_workers=2, threads_per_worker=1, processes={processes}, dashboard_address=None) as cluster:\n"
    "        with Client(cluster) as client:\n            found = client.gather(client.map(flow, range(5)))\n"
)
KINDS["fork"] = (FORK, "")
KINDS["joblib"] = (JOBLIB, "")
TOP = "import multiprocessing\nimport os\nfrom concurrent.futures import ProcessPoolExecutor\n\n\n"


def text_of(kind: str, body: str = FLOW) -> str:
    text, method = KINDS[kind]
    main = text.format(context=f"multiprocessing.get_context('{method}')")
    return f"{TOP}{body}\n\nif __name__ == '__main__':\n{main}"


def has(interpreter: str, package: str) -> bool:
    return subprocess.run([interpreter, "-c", f"import {package}"], capture_output=True).returncode == 0


def are_gone(path: str) -> None:
    """No process of a script is left, in a while."""
    end = time.monotonic() + 5 * slowness()
    while subprocess.run(["pgrep", "-f", path], capture_output=True).stdout:
        assert time.monotonic() < end, "a process is left"
        time.sleep(0.1)
