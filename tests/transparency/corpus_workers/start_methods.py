# packages:
"""Processes by every start method."""

import multiprocessing as mp
from concurrent.futures import ProcessPoolExecutor


def f(k):
    return 1.0 / (k + 1)


def put(q, k):
    q.put(f(k))


if __name__ == "__main__":
    for how in mp.get_all_start_methods():
        c = mp.get_context(how)
        with c.Pool(2) as pool:
            print(how, pool.map(f, range(4)))
        with ProcessPoolExecutor(2, mp_context=c) as ex:
            print(list(ex.map(f, range(3))))
        q = c.Queue()
        p = c.Process(target=put, args=(q, 4))
        p.start()
        print(q.get())
        p.join()
        print(p.exitcode)
