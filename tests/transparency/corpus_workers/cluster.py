# packages: distributed
"""A cluster of worker processes."""

import dask
from dask.distributed import Client, LocalCluster


def f(k):
    return 1.0 / (k + 1)


def main():
    with (
        LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster,
        Client(cluster) as client,
    ):
        print(client.gather(client.map(f, range(5))))
        print(dask.delayed(f)(3).compute())


if __name__ == "__main__":
    main()
