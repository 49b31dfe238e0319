"""Shared by the calibrations: a robust (sandwich) covariance, and the verdict against a limit."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..frames import Array, Indices
from ..units import mm

Verdict = Literal["pass", "fail", "not enough"]
LIMIT_MM = 0.025  # common practice: 0.020 to 0.025 mm is a good result for a 2.5 m arm


def sandwich(jacobian: Array, residuals: Array, clusters: Indices) -> Array:
    """Covariance (k, k) of least-squares parameters where errors are neither alike nor of one direction.

    Parameters
    ----------
    jacobian : (m, k); residuals : (m,)
    clusters : (m,) rising numbers from 0: rows of one reading (its x, y, z; a stripe) belong together

    Notes
    -----
    What is left after the fit is smaller than the error was; every cluster's is put right by its
    own leverage (the jackknife). Source: J. MacKinnon and H. White, "Some heteroskedasticity-consistent
    covariance matrix estimators with improved finite sample properties", J. Econometrics 29 (1985);
    R. Bell and D. McCaffrey, "Bias reduction in standard errors for linear regression with
    multi-stage samples", Survey Methodology 28 (2002), for the clusters.
    """
    size = np.linalg.norm(jacobian, axis=0)
    scaled = jacobian / size
    bread = np.linalg.inv(scaled.T @ scaled)
    begins = np.concatenate([[0], np.flatnonzero(np.diff(clusters)) + 1])
    sizes = np.diff([*begins, len(residuals)])
    scores = np.empty((len(begins), jacobian.shape[1]))
    for many in np.unique(sizes):  # clusters of the same size together
        mine = sizes == many
        places = begins[mine][:, None] + np.arange(many)
        rows, error = scaled[places], residuals[places]
        inner = np.eye(many) - rows @ bread @ rows.transpose(0, 2, 1)
        scores[mine] = np.einsum("cik,ci->ck", rows, np.linalg.solve(inner, error[:, :, None])[:, :, 0])
    count = len(begins)
    spread = (count - 1) / count * bread @ (scores.T @ scores) @ bread
    return spread / np.outer(size, size)


def held_against(rms_mm: float, limit_mm: float, remedy: str) -> tuple[Verdict, str]:
    """The last question of every calibration: is its rms within the limit?"""
    if rms_mm > limit_mm:
        return "fail", f"The rms of {mm(rms_mm)} is over the limit of {mm(limit_mm)}. {remedy}"
    return "pass", f"The rms of {mm(rms_mm)} is within the limit of {mm(limit_mm)}."
