# packages: joblib cloudpickle dill
"""Functions that are pickled by value, marshalled, and sent to workers."""

import copyreg
import io
import marshal
import pickle
import types

import cloudpickle
import dill
import joblib


def f(k):
    def inner(x):
        return [x / (k + 1) for _ in range(3)]

    g, h = (lambda a: a / 2), (lambda a: a / 3)
    return sum(inner(k)) + g(1) + h(1)


SCALE = 2.0


class Gauge:
    factor = 3.0

    def level(self, x):
        return x / self.factor * SCALE


def outer(n):
    c = n / 2
    return lambda x: x / c


if __name__ == "__main__":
    print(joblib.Parallel(n_jobs=2)(joblib.delayed(f)(k) for k in range(4)))
    print(joblib.Parallel(n_jobs=2, backend="multiprocessing")(joblib.delayed(f)(k) for k in range(4)))
    for lib in (cloudpickle, dill):
        print(
            lib.__name__,
            lib.loads(lib.dumps(f))(2),
            lib.loads(lib.dumps(outer(3)))(4),
            lib.loads(lib.dumps(Gauge))().level(5),
        )
    code = marshal.loads(marshal.dumps(f.__code__))
    print(types.FunctionType(code, globals())(3), type(marshal.loads(marshal.dumps({"a": [f.__code__]}))))
    g, h = (lambda a: a / 2), (lambda a: a / 3)
    print(types.FunctionType(marshal.loads(marshal.dumps(h.__code__)), {})(3))

    class Own(pickle.Pickler):
        dispatch_table = dict(copyreg.dispatch_table)
        dispatch_table[types.CodeType] = lambda c: (marshal.loads, (marshal.dumps(c),))

    b = io.BytesIO()
    Own(b).dump(h.__code__)
    print(types.FunctionType(pickle.loads(b.getvalue()), {})(3))
