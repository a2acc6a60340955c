# packages: sklearn
"""Estimators that are fitted by workers."""

import numpy as np
from sklearn.ensemble import RandomForestRegressor
from sklearn.linear_model import Ridge
from sklearn.model_selection import GridSearchCV, cross_val_score
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import FunctionTransformer


def twice(x):
    return x * 2


if __name__ == "__main__":
    r = np.random.default_rng(1)
    X = r.normal(size=(80, 3))
    y = X @ [1, 2, 3] + r.normal(size=80)
    print(RandomForestRegressor(n_estimators=10, n_jobs=2, random_state=0).fit(X, y).score(X, y))
    print(cross_val_score(make_pipeline(FunctionTransformer(twice), Ridge()), X, y, n_jobs=2))
    print(
        GridSearchCV(Ridge(), {"alpha": [0.1, 1.0]}, scoring=lambda e, a, b: -np.abs(e.predict(a) - b).mean(), n_jobs=2)
        .fit(X, y)
        .best_params_
    )
