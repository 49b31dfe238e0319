"""The feet of points on rational B-spline surfaces, by Newton's iteration.

Source: L. Piegl and W. Tiller, "The NURBS Book", 2nd ed.: algorithms A2.1 and A2.3 (basis functions and their
derivatives), section 4.4 (derivatives of rational surfaces), section 6.1 (point inversion).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED

HIGHEST = 26  # degree and one more; STEP and IGES write no higher ones
STEPS, STILL = 20, 1e-12
NEXT_STILL = 1e-7  # a step of Newton's that is so short leaves about its square: the next would be none


@njit("i8(f8[::1], i8, f8)", **COMPILED)
def _span(knots, degree, at):
    low, high = degree, len(knots) - degree - 1
    if at >= knots[high]:
        high -= 1
        while knots[high] == knots[high + 1]:
            high -= 1
        return high
    while high - low > 1:
        middle = (low + high) // 2
        if at < knots[middle]:
            high = middle
        else:
            low = middle
    return low


@njit("void(f8[::1], i8, i8, f8, f8[:,::1], f8[:,::1], f8[:,::1])", **COMPILED)
def _basis(knots, degree, span, at, ndu, a, out):
    """Rows of ``out``: values and first two derivatives of the ``degree`` + 1 basis functions that are not zero."""
    ndu[0, 0] = 1.0
    for j in range(1, degree + 1):
        saved = 0.0
        for r in range(j):
            right, left = knots[span + r + 1] - at, at - knots[span + 1 - j + r]
            ndu[j, r] = right + left
            part = ndu[r, j - 1] / ndu[j, r]
            ndu[r, j] = saved + right * part
            saved = left * part
        ndu[j, j] = saved
    for j in range(degree + 1):
        out[0, j], out[1, j], out[2, j] = ndu[j, degree], 0.0, 0.0
    for r in range(degree + 1):
        now, then = 0, 1
        a[0, 0] = 1.0
        for k in range(1, min(2, degree) + 1):
            value, rk, pk = 0.0, r - k, degree - k
            if r >= k:
                a[then, 0] = a[now, 0] / ndu[pk + 1, rk]
                value = a[then, 0] * ndu[rk, pk]
            for j in range(1 if rk >= -1 else -rk, (k - 1 if r - 1 <= pk else degree - r) + 1):
                a[then, j] = (a[now, j] - a[now, j - 1]) / ndu[pk + 1, rk + j]
                value += a[then, j] * ndu[rk + j, pk]
            if r <= pk:
                a[then, k] = -a[now, k - 1] / ndu[pk + 1, r]
                value += a[then, k] * ndu[r, pk]
            out[k, r] = value
            now, then = then, now
    factor = 1.0
    for k in range(1, min(2, degree) + 1):
        factor *= degree - k + 1
        for j in range(degree + 1):
            out[k, j] *= factor


@njit("void(i8, i8, f8[::1], f8[::1], f8[:,:,::1], f8, f8, f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])", **COMPILED)
def _derivatives(p, q, knots_u, knots_v, poles, u, v, ndu, a, basis_u, basis_v, out):
    """Rows of ``out`` (6, 4): the place, and its derivatives by u, v, uu, uv, vv; the last column is of work."""
    i, j = _span(knots_u, p, u), _span(knots_v, q, v)
    _basis(knots_u, p, i, u, ndu, a, basis_u)
    _basis(knots_v, q, j, v, ndu, a, basis_v)
    out[:] = 0.0
    for r in range(p + 1):
        for c in range(4):
            along0, along1, along2 = 0.0, 0.0, 0.0
            for s in range(q + 1):
                pole = poles[i - p + r, j - q + s, c]
                along0 += basis_v[0, s] * pole
                along1 += basis_v[1, s] * pole
                along2 += basis_v[2, s] * pole
            out[0, c] += basis_u[0, r] * along0
            out[1, c] += basis_u[1, r] * along0
            out[2, c] += basis_u[0, r] * along1
            out[3, c] += basis_u[2, r] * along0
            out[4, c] += basis_u[1, r] * along1
            out[5, c] += basis_u[0, r] * along2
    w, wu, wv, wuu, wuv, wvv = out[0, 3], out[1, 3], out[2, 3], out[3, 3], out[4, 3], out[5, 3]
    for c in range(3):
        place = out[0, c] / w
        du, dv = (out[1, c] - wu * place) / w, (out[2, c] - wv * place) / w
        out[0, c], out[1, c], out[2, c] = place, du, dv
        out[3, c] = (out[3, c] - 2 * wu * du - wuu * place) / w
        out[4, c] = (out[4, c] - wu * dv - wv * du - wuv * place) / w
        out[5, c] = (out[5, c] - 2 * wv * dv - wvv * place) / w


@njit("Tuple((f8[:,::1], f8[:,::1], f8[:,::1]))(i8, i8, f8[::1], f8[::1], f8[:,:,::1], f8[:,::1], f8[:,::1])", **COMPILED)
def spline_feet(p, q, knots_u, knots_v, poles, points, seeds):
    """Feet (n, 3) of points, du × dv (n, 3) there, and the parameters (n, 2) of the feet.

    Parameters
    ----------
    p, q : degrees of u and of v
    poles : (n, m, 4) w x, w y, w z, w
    seeds : (n, 2) u and v near to the feet
    """
    count = len(points)
    feet, crossed, found = np.empty((count, 3)), np.empty((count, 3)), np.empty((count, 2))
    ndu, a = np.empty((HIGHEST, HIGHEST)), np.empty((2, HIGHEST))
    basis_u, basis_v, at = np.empty((3, HIGHEST)), np.empty((3, HIGHEST)), np.empty((6, 4))
    low_u, high_u = knots_u[p], knots_u[len(knots_u) - p - 1]
    low_v, high_v = knots_v[q], knots_v[len(knots_v) - q - 1]
    for k in range(count):
        u, v = seeds[k, 0], seeds[k, 1]
        for _ in range(STEPS):
            _derivatives(p, q, knots_u, knots_v, poles, u, v, ndu, a, basis_u, basis_v, at)
            gu = gv = uu = uv = vv = cu = cv = cw = 0.0
            for c in range(3):
                off = at[0, c] - points[k, c]
                gu += off * at[1, c]
                gv += off * at[2, c]
                uu += at[1, c] * at[1, c]
                uv += at[1, c] * at[2, c]
                vv += at[2, c] * at[2, c]
                cu += off * at[3, c]
                cw += off * at[4, c]
                cv += off * at[5, c]
            fu, fw, fv = uu + cu, uv + cw, vv + cv
            newton = fu > 0.1 * uu and fu * fv - fw * fw > 0.1 * (uu * vv - uv * uv)  # else Gauss-Newton
            if newton:
                uu, uv, vv = fu, fw, fv
            # where the foot would leave the surface, it slides along the border
            held_u = (u <= low_u and gu > 0) or (u >= high_u and gu < 0)
            held_v = (v <= low_v and gv > 0) or (v >= high_v and gv < 0)
            if held_u or held_v:
                uv = 0.0
                gu, gv = (0.0 if held_u else gu), (0.0 if held_v else gv)
            det = max(uu * vv - uv * uv, 1e-300)
            step_u, step_v = (uv * gv - vv * gu) / det, (uv * gu - uu * gv) / det
            far_u, far_v = (high_u - low_u) / 8, (high_v - low_v) / 8
            next_u = min(max(u + min(max(step_u, -far_u), far_u), low_u), high_u)
            next_v = min(max(v + min(max(step_v, -far_v), far_v), low_v), high_v)
            short = NEXT_STILL if newton and not held_u and not held_v else STILL
            still = abs(next_u - u) < short * (high_u - low_u) and abs(next_v - v) < short * (high_v - low_v)
            u, v = next_u, next_v
            if still:
                break
        _derivatives(p, q, knots_u, knots_v, poles, u, v, ndu, a, basis_u, basis_v, at)
        found[k, 0], found[k, 1] = u, v
        for c in range(3):
            feet[k, c] = at[0, c]
        crossed[k, 0] = at[1, 1] * at[2, 2] - at[1, 2] * at[2, 1]
        crossed[k, 1] = at[1, 2] * at[2, 0] - at[1, 0] * at[2, 2]
        crossed[k, 2] = at[1, 0] * at[2, 1] - at[1, 1] * at[2, 0]
        size = max(math.sqrt(crossed[k, 0] ** 2 + crossed[k, 1] ** 2 + crossed[k, 2] ** 2), 1e-300)
        for c in range(3):
            crossed[k, c] /= size
    return feet, crossed, found
