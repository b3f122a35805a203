"""Compiled loops over range images. Pure functions on contiguous arrays; plain numpy references stand in
``reference.py`` and one parametrised test holds both to the same truth.

A range image is ``image`` (rows, columns, 3) float32, metres, station frame, with zeros where nothing came
back; ``geo`` = [az0, az_step, el0, el_step] radians for the centre of pixel (0, 0); ``wrap`` says that the
columns close the full turn.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")
TURN = 2 * math.pi
SOME = 256  # points that are looked at in one go: their numbers stay near


@jit
def pixel(x, y, z, geo, rows, columns, wrap):  # type: ignore[no-untyped-def]
    """(row, column) of a direction, or (-1, -1) outside the image. A sector may lie across the half turn."""
    d = math.sqrt(x * x + y * y)
    r = int(math.floor((math.atan2(z, d) - geo[2]) / geo[3] + 0.5))
    turn = math.atan2(y, x) - geo[0]
    if wrap:
        c = int(math.floor(turn / geo[1] + 0.5)) % columns
    else:
        turn -= TURN * math.floor((turn + 0.5 * geo[1]) / TURN)
        c = int(math.floor(turn / geo[1] + 0.5))
    if r < 0 or r >= rows or c < 0 or c >= columns:
        return -1, -1
    return r, c


@jit
def fill(xyz, r, c, last_r, last_c, thin, image, index):  # type: ignore[no-untyped-def]
    """Points (n, 3) into the image at every ``thin``-th row and column; the nearest wins a pixel. index: of the point.
    last_r, last_c: the last row or column when they count backwards, else -1."""
    for k in range(len(xyz)):
        i = r[k] if last_r < 0 else last_r - r[k]
        j = c[k] if last_c < 0 else last_c - c[k]
        if thin > 1:
            if i % thin or j % thin:
                continue
            i, j = i // thin, j // thin
        x, y, z = xyz[k, 0], xyz[k, 1], xyz[k, 2]
        if index[i, j] >= 0 and x * x + y * y + z * z > image[i, j, 0] ** 2 + image[i, j, 1] ** 2 + image[i, j, 2] ** 2:
            continue
        image[i, j, 0], image[i, j, 1], image[i, j, 2] = x, y, z
        index[i, j] = k


@jit
def smallest_eigenvector(a00, a01, a02, a11, a12, a22):  # type: ignore[no-untyped-def]
    """Smallest eigenvalue and its unit vector of a symmetric 3x3 matrix (trigonometric solution; Smith 1961)."""
    m = (a00 + a11 + a22) / 3.0
    b00, b11, b22 = a00 - m, a11 - m, a22 - m
    p2 = (b00 * b00 + b11 * b11 + b22 * b22 + 2 * (a01 * a01 + a02 * a02 + a12 * a12)) / 6.0
    p = math.sqrt(p2)
    if p < 1e-15:
        return m, 0.0, 0.0, 1.0
    det = (b00 * (b11 * b22 - a12 * a12) - a01 * (a01 * b22 - a12 * a02) + a02 * (a01 * a12 - b11 * a02)) / (2 * p2 * p)
    phi = math.acos(min(1.0, max(-1.0, det))) / 3.0
    low = m + 2 * p * math.cos(phi + 2.0943951023931953)
    c00, c11, c22 = a00 - low, a11 - low, a22 - low
    best, bx, by, bz = -1.0, 0.0, 0.0, 1.0
    for k in range(3):
        if k == 0:
            x, y, z = a01 * a12 - a02 * c11, a02 * a01 - c00 * a12, c00 * c11 - a01 * a01
        elif k == 1:
            x, y, z = a01 * c22 - a02 * a12, a02 * a02 - c00 * c22, c00 * a12 - a01 * a02
        else:
            x, y, z = c11 * c22 - a12 * a12, a12 * a02 - a01 * c22, a01 * a12 - c11 * a02
        n = x * x + y * y + z * z
        if n > best:
            best, bx, by, bz = n, x, y, z
    if best < 1e-40:
        return low, 0.0, 0.0, 1.0
    s = 1.0 / math.sqrt(best)
    return low, bx * s, by * s, bz * s


@jit
def window_plane(image, wrap, r, c, stride, gate2, out):  # type: ignore[no-untyped-def]
    """Plane through the 5x5 window at (r, c), of the pixels within sqrt(gate2) metres of the middle one.

    A second pass leaves out what stands off the first plane (mixed pixels). False with fewer than 7 pixels.
    """
    rows, columns = image.shape[0], image.shape[1]
    if wrap and 2 * stride >= columns:  # a return from inside the instrument
        return False
    x0, y0, z0 = float(image[r, c, 0]), float(image[r, c, 1]), float(image[r, c, 2])
    mx = my = mz = nx = ny = nz = 0.0
    limit = 1e9
    n = 0
    for attempt in range(2):
        n = 0
        sx = sy = sz = xx = xy = xz = yy = yz = zz = 0.0
        for i in range(-2, 3):
            rr = r + i * stride
            if rr < 0 or rr >= rows:
                continue
            for j in range(-2, 3):
                cc = c + j * stride
                if cc < 0 or cc >= columns:  # a division for every pixel would take longer than all the rest
                    if not wrap:
                        continue
                    cc += columns if cc < 0 else -columns
                x, y, z = image[rr, cc, 0] - x0, image[rr, cc, 1] - y0, image[rr, cc, 2] - z0
                if image[rr, cc, 0] == 0 and image[rr, cc, 1] == 0 and image[rr, cc, 2] == 0:
                    continue
                if x * x + y * y + z * z > gate2:
                    continue
                if attempt == 1 and abs((x - mx) * nx + (y - my) * ny + (z - mz) * nz) > limit:
                    continue
                n += 1
                sx += x
                sy += y
                sz += z
                xx += x * x
                xy += x * y
                xz += x * z
                yy += y * y
                yz += y * z
                zz += z * z
        if n < 7:
            return False
        mx, my, mz = sx / n, sy / n, sz / n
        low, nx, ny, nz = smallest_eigenvector(
            xx / n - mx * mx, xy / n - mx * my, xz / n - mx * mz, yy / n - my * my, yz / n - my * mz, zz / n - mz * mz
        )
        out[6] = math.sqrt(max(low, 0.0))
        limit = 2.2 * out[6]
        if out[6] < 0.0022:
            break
    if nx * x0 + ny * y0 + nz * z0 > 0:
        nx, ny, nz = -nx, -ny, -nz
    out[0], out[1], out[2] = x0 + mx, y0 + my, z0 + mz
    out[3], out[4], out[5] = nx, ny, nz
    out[7] = n
    return True


@jit
def plane_at(image, step, wrap, r, c, out):  # type: ignore[no-untyped-def]
    """Plane through the 5x5 pixels round (r, c), strided to span about 6 cm.

    out : (8,) centroid xyz, unit normal towards the origin, rms (m), count. False when there is no plane.
    """
    rho = math.sqrt(float(image[r, c, 0]) ** 2 + float(image[r, c, 1]) ** 2 + float(image[r, c, 2]) ** 2)
    if rho == 0.0:
        return False
    stride = max(1, int(0.03 / (rho * step) / 2 + 0.5))
    reach = 2.9 * stride * step * rho
    tight = (max(0.09, 1.6 * step * rho) * 1.5) ** 2
    if window_plane(image, wrap, r, c, stride, tight, out):
        return out[6] < 0.003 + 0.01 * reach
    # few neighbours within reach: a surface seen at a glancing angle, whose pixels lie far apart along the ray
    return window_plane(image, wrap, r, c, stride, 36 * tight, out) and out[6] < 0.003 + 0.01 * reach


@jit
def planes(image, step, wrap, rc):  # type: ignore[no-untyped-def]
    """Planes at pixels rc (m, 2): (m, 8) rows as in plane_at, and (m,) bool."""
    out = np.zeros((len(rc), 8))
    ok = np.zeros(len(rc), np.bool_)
    for k in range(len(rc)):
        ok[k] = plane_at(image, step, wrap, rc[k, 0], rc[k, 1], out[k])
    return out, ok


@jit
def pick_uniform(image, geo, spacing, phase):  # type: ignore[no-untyped-def]
    """Pixels chosen so that they lie evenly in space: share r^2 step^2 cos(el) / spacing^2 (golden-ratio dither)."""
    rows, columns = image.shape[0], image.shape[1]
    out = np.zeros((rows * columns, 2), np.int32)
    n = 0
    debt = phase
    for r in range(rows):
        k = geo[1] * geo[3] * math.cos(geo[2] + r * geo[3]) / (spacing * spacing)
        for c in range(columns):
            x, y, z = image[r, c, 0], image[r, c, 1], image[r, c, 2]
            rho2 = x * x + y * y + z * z
            if rho2 == 0:
                continue
            debt += 0.6180339887498949
            if debt >= 1.0:
                debt -= 1.0
            if debt < rho2 * k:
                out[n, 0] = r
                out[n, 1] = c
                n += 1
    return out[:n]


@jit
def filled(image, wrap, r, c):  # type: ignore[no-untyped-def]
    """The pixel itself when something came back there, else the first of its eight neighbours where it did, else (-1, -1): a scan
    without a grid leaves pixels empty by chance."""
    if image[r, c, 0] != 0 or image[r, c, 1] != 0 or image[r, c, 2] != 0:
        return r, c
    rows, columns = image.shape[0], image.shape[1]
    for dr in (0, 1, -1):
        for dc in (0, 1, -1):
            i, j = r + dr, c + dc
            if wrap:
                j %= columns
            if 0 <= i < rows and 0 <= j < columns and (image[i, j, 0] != 0 or image[i, j, 1] != 0 or image[i, j, 2] != 0):
                return i, j
    return -1, -1


@jit
def land(image, geo, wrap, t, p, n, gate, at):  # type: ignore[no-untyped-def]
    """Place a sample (station b; p, n (3,)) by t = T_a_b into the image of a: at (6,) becomes its place and normal there. Returns
    (row, column), or (-1, -1) when nothing was seen there within ``gate`` of the sample's plane."""
    for i in range(3):
        at[i] = t[i, 0] * p[0] + t[i, 1] * p[1] + t[i, 2] * p[2] + t[i, 3]
        at[3 + i] = t[i, 0] * n[0] + t[i, 1] * n[1] + t[i, 2] * n[2]
    r, c = pixel(at[0], at[1], at[2], geo, image.shape[0], image.shape[1], wrap)
    if r < 0:
        return -1, -1
    qx, qy, qz = image[r, c, 0], image[r, c, 1], image[r, c, 2]
    if qx == 0 and qy == 0 and qz == 0:
        return -1, -1
    if abs(at[3] * (at[0] - qx) + at[4] * (at[1] - qy) + at[5] * (at[2] - qz)) > gate + 0.02:
        return -1, -1
    return r, c


@jit
def lies_on(plane, at, gate, min_cos):  # type: ignore[no-untyped-def]
    """Whether a placed sample (6,) lies on a plane (8,) of the same side."""
    if plane[3] * at[3] + plane[4] * at[4] + plane[5] * at[5] < min_cos:
        return False
    return abs(plane[3] * (at[0] - plane[0]) + plane[4] * (at[1] - plane[1]) + plane[5] * (at[2] - plane[2])) <= gate


@jit
def associate(image, geo, wrap, t, points, normals, gate, min_cos, stride, hit, plane):  # type: ignore[no-untyped-def]
    """Project every ``stride``-th point (station b) through t = T_a_b into the image of a and fit the plane that is there.

    plane : (m, 8) centroid, normal in a's frame, rms, count; hit : (m, 2) int32, the pixel each belongs to (-1 at first)
    and whether there is a plane. Both are kept from call to call, since late steps hit the same pixels again.
    Returns (m,) bool.
    """
    ok, at = np.zeros(len(points), np.bool_), np.zeros(6)
    for k in range(0, len(points), stride):
        r, c = land(image, geo, wrap, t, points[k], normals[k], gate, at)
        if r < 0:
            continue
        if hit[k, 0] != r * image.shape[1] + c:
            hit[k, 0] = r * image.shape[1] + c
            hit[k, 1] = plane_at(image, geo[3], wrap, r, c, plane[k])
        ok[k] = hit[k, 1] != 0 and lies_on(plane[k], at, gate, min_cos)
    return ok


@jit
def associate_known(image, known, geo, wrap, t, points, normals, gate, min_cos, stride, plane):  # type: ignore[no-untyped-def]
    """``associate`` with an image whose planes are known: (rows, columns, 8), of count 0 where there is none."""
    ok, at = np.zeros(len(points), np.bool_), np.zeros(6)
    for k in range(0, len(points), stride):
        r, c = land(image, geo, wrap, t, points[k], normals[k], gate, at)
        if r < 0 or known[r, c, 7] == 0 or not lies_on(known[r, c], at, gate, min_cos):
            continue
        ok[k] = True
        for i in range(8):
            plane[k, i] = known[r, c, i]
    return ok


@jit
def coarse(image, geo, wrap, step):  # type: ignore[no-untyped-def]
    """One pixel with a plane for each cell of ``step`` radians over the sphere, the last that has one of up to three tries: points
    (rows, columns, 3) float32, planes (rows, columns, 8) float64 with count 0 where there is none, and the cells' geo."""
    rows, columns = int(math.ceil(math.pi / step)), int(round(TURN / step))
    points, known = np.zeros((rows, columns, 3), np.float32), np.zeros((rows, columns, 8))
    where = np.array([-math.pi + 0.5 * step, step, -0.5 * math.pi + 0.5 * step, step])
    for r in range(rows):
        for c in range(columns):
            for k in range(3):
                el, az = where[2] + (r + 0.25 * (k % 2)) * step, where[0] + (c + 0.25 * (k // 2)) * step
                x, y, z = math.cos(el) * math.cos(az), math.cos(el) * math.sin(az), math.sin(el)
                i, j = pixel(x, y, z, geo, image.shape[0], image.shape[1], wrap)
                if i < 0:
                    continue
                i, j = filled(image, wrap, i, j)
                if i >= 0 and plane_at(image, geo[3], wrap, i, j, known[r, c]):
                    points[r, c] = image[i, j]
                    break
                known[r, c, 7] = 0.0
    return points, known, where


@jit
def pyramid(image, geo, step):  # type: ignore[no-untyped-def]
    """Nearest and farthest range per cell of ``step`` radians over the sphere: (2, rows, columns) float32."""
    rows, columns = int(math.ceil(math.pi / step)), int(math.ceil(2 * math.pi / step))
    out = np.zeros((2, rows, columns), np.float32)
    cell = np.empty(image.shape[1], np.int64)  # of each column, whatever the row
    for c in range(image.shape[1]):
        cell[c] = min(columns - 1, int((geo[0] + c * geo[1] + math.pi) % (2 * math.pi) / step))
    for r in range(image.shape[0]):
        pr = min(rows - 1, int((geo[2] + r * geo[3] + math.pi / 2) / step))
        for c in range(image.shape[1]):
            x, y, z = image[r, c, 0], image[r, c, 1], image[r, c, 2]
            q = math.sqrt(x * x + y * y + z * z)
            if q == 0:
                continue
            pc = cell[c]
            if out[0, pr, pc] == 0 or q < out[0, pr, pc]:
                out[0, pr, pc] = q
            if q > out[1, pr, pc]:
                out[1, pr, pc] = q
    return out


@jit
def turn_of(y, x):  # type: ignore[no-untyped-def]
    """atan2 to 2e-8 in a third of its time (Abramowitz & Stegun 1964, 4.4.49). Without branches, so that loops of it run on several
    numbers at once."""
    ax, ay = abs(x), abs(y)
    w = min(ax, ay) / max(max(ax, ay), 1e-300)
    q = w * w
    low = 1.0 + q * (-0.3333314528 + q * (0.1999355085 + q * (-0.1420889944 + q * 0.1065626393)))
    high = -0.0752896400 + q * (0.0429096138 + q * (-0.0161657367 + q * 0.0028662257))
    w = w * (low + q * q * q * q * q * high)
    w = 0.5 * math.pi - w if ay > ax else w
    w = math.pi - w if x < 0 else w
    return -w if y < 0 else w


@jit
def rank(pyr, step, poses, points, normals, tol, out):  # type: ignore[no-untyped-def]
    """Cheap judgement of many placements on a pyramid; adds to out (k, 3): agree, violated, near misses."""
    rows, columns = pyr.shape[1], pyr.shape[2]
    px, py, pz, far_off, slant = np.empty(SOME), np.empty(SOME), np.empty(SOME), np.empty(SOME), np.empty(SOME)
    row, column = np.empty(SOME), np.empty(SOME)
    for h in range(len(poses)):
        t = poses[h]
        agree = violated = near = 0
        for first in range(0, len(points), SOME):
            n = min(SOME, len(points) - first)
            for k in range(n):
                x, y, z = points[first + k, 0], points[first + k, 1], points[first + k, 2]
                nx, ny, nz = normals[first + k, 0], normals[first + k, 1], normals[first + k, 2]
                px[k] = t[0, 0] * x + t[0, 1] * y + t[0, 2] * z + t[0, 3]
                py[k] = t[1, 0] * x + t[1, 1] * y + t[1, 2] * z + t[1, 3]
                pz[k] = t[2, 0] * x + t[2, 1] * y + t[2, 2] * z + t[2, 3]
                slant[k] = (
                    (t[0, 0] * nx + t[0, 1] * ny + t[0, 2] * nz) * px[k]
                    + (t[1, 0] * nx + t[1, 1] * ny + t[1, 2] * nz) * py[k]
                    + (t[2, 0] * nx + t[2, 1] * ny + t[2, 2] * nz) * pz[k]
                )
            for k in range(n):  # several points at once
                d2 = px[k] * px[k] + py[k] * py[k]
                far_off[k] = math.sqrt(d2 + pz[k] * pz[k])
                row[k] = (turn_of(pz[k], math.sqrt(d2)) + math.pi / 2) / step
                column[k] = (turn_of(py[k], px[k]) + math.pi) / step
                slant[k] = abs(slant[k]) / max(far_off[k], 1e-9)
            for k in range(n):
                rho, cosine = far_off[k], slant[k]
                pr, pc = min(rows - 1, int(row[k])), min(columns - 1, int(column[k]))
                low, high = pyr[0, pr, pc], pyr[1, pr, pc]
                if rho < 0.5 or low == 0 or cosine < 0.1:
                    continue
                slack = (tol + 0.01) / cosine
                if low - slack <= rho <= high + slack:
                    agree += 1
                elif rho < low - slack:
                    if rho < low - 2 * slack:
                        violated += 1
                    else:
                        near += 1
        out[h, 0] += agree
        out[h, 1] += violated
        out[h, 2] += near


@jit
def height_votes(start, bins, cell, bin_m, points, kind, shifts, out):  # type: ignore[no-untyped-def]
    """Votes for height differences under plan shifts: level samples of b that would lie on level surfaces of a.

    start (2, nx, ny, 2) int32: the range in ``bins`` (int32, from the bottom) of the heights at which a has up- and down-facing
    surfaces in a plan cell, origin in the middle; points (m, 3) of b, turned; kind (m,) 0 up 1 down; shifts (s, 2);
    out (s, nz) int32, bin nz/2 stands for no difference.
    """
    nx, ny, nz = start.shape[1], start.shape[2], out.shape[1]
    for s in range(len(shifts)):
        for k in range(len(points)):
            i = int(math.floor((points[k, 0] + shifts[s, 0]) / cell)) + nx // 2
            j = int(math.floor((points[k, 1] + shifts[s, 1]) / cell)) + ny // 2
            if i < 0 or j < 0 or i >= nx or j >= ny:
                continue
            z = int(math.floor(points[k, 2] / bin_m))
            for at in range(start[kind[k], i, j, 0], start[kind[k], i, j, 1]):
                d = bins[at] - z
                if 0 <= d < nz:
                    out[s, d] += 1
