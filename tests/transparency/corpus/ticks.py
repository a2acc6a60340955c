import functools
import signal
import threading


class Tick(Exception):
    pass


class Clock:
    def __init__(self):
        self.ticks = 0

    def method(self, number, frame):
        self.ticks += 1
        raise Tick(f"{self.ticks % 7}")

    def __call__(self, number, frame):
        self.method(number, frame)


def plain(clock, number, frame):
    clock.method(number, frame)


def wait(level):
    while True:
        level = level * 1.0000001 + 1e-9
        if level > 2.0:
            level = level - 1.0


if __name__ == "__main__":
    clock = Clock()
    met = []
    beside = threading.Thread(target=threading.Event().wait, daemon=True)
    for handler in (clock.method, clock, functools.partial(plain, clock), lambda n, f: clock.method(n, f)):
        signal.signal(signal.SIGALRM, handler)
        for k in range(60):
            try:
                signal.setitimer(signal.ITIMER_REAL, 0.0004 + 0.00003 * k)
                while True:
                    pass
            except Tick as e:
                met.append(str(e))
            try:
                signal.setitimer(signal.ITIMER_REAL, 0.0004 + 0.00003 * k)
                wait(1.0)
            except Tick as e:
                met.append(str(e))
        if handler is clock:
            beside.start()  # from now on it takes the signals that the main thread holds back
    print(len(met), clock.ticks, met[-3:])
    values = []
    signal.signal(signal.SIGALRM, clock.method)
    for k in range(40):
        try:
            signal.setitimer(signal.ITIMER_REAL, 0.0007)
            found = [level * 0.5 for level in iter(lambda: 1.5, None)]
        except Tick:
            values.append(k)
    print(values == list(range(40)))
