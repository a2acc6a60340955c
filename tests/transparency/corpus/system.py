import atexit, json, multiprocessing, os, signal, subprocess, sys, threading, time, contextvars


def half(x):
    return x / 2


def handler(n, f):
    print("signal", n)


if __name__ == "__main__":
    atexit.register(lambda: print("at exit"))
    sys.excepthook = lambda t, v, tb: print("hook", t.__name__, v)
    signal.signal(signal.SIGUSR1, handler)
    os.kill(os.getpid(), signal.SIGUSR1)
    pid = os.fork()
    if pid == 0:
        print("child", half(3.0))
        sys.stdout.flush()
        x = 1.0
        for i in range(3):
            x /= 2
        try:
            1 / 0
        except ZeroDivisionError:
            x = 7
        os._exit(x)
    print("status", os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))
    with multiprocessing.get_context("fork").Pool(2) as pool:
        print(pool.map(half, [1.0, 2.0, 3.0]))
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        print(pool.map(half, [5.0]))
    print(subprocess.run([sys.executable, "-c", "print(1.5)"], capture_output=True, text=True).stdout)
    os.chdir("/")
    results = []
    threads = [threading.Thread(target=lambda k=k: results.append(half(k))) for k in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    print(sorted(results), os.getcwd(), multiprocessing.current_process().name)
    var = contextvars.ContextVar("v", default=1.5)
    print(contextvars.copy_context().run(lambda: var.get() / 2))
    signal.signal(signal.SIGALRM, handler)
    signal.setitimer(signal.ITIMER_REAL, 0.05)
    time.sleep(0.1)
    try:
        signal.signal(signal.SIGALRM, lambda *a: 1 / 0)
        signal.setitimer(signal.ITIMER_REAL, 0.02)
        while True:
            pass
    except ZeroDivisionError:
        print("from the handler")
    print(json.dumps({"a": half(1.0)}))
    raise KeyError("through the hook")
