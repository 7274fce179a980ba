"""Boxes by fours: what trees of triangles are asked, at single precision and never too little.

A group is the boxes of four nodes: lowest x of each, lowest y, lowest z, highest x, highest y, highest z. They are a
little too large (`_distance.fill_groups`), and a place counts with as much room as its numbers lose, so that nothing
is passed over that double precision would find, up to lengths of 1e18.
"""

cdef extern from *:
    """
    #ifndef ZO_BOXES
    #define ZO_BOXES
    #include <math.h>
    #if defined(__SSE2__) || defined(_M_X64)
    #include <emmintrin.h>
    #define ZO_SSE
    #endif

    typedef struct { float low[3], high[3]; } zo_spot;
    typedef struct { float near[3], far[3], per[3]; int first[3], last[3]; } zo_ray;

    static inline void zo_put(zo_spot *spot, double x, double y, double z) {
        const double at[3] = {x, y, z};
        for (int k = 0; k < 3; k++) {
            spot->low[k] = (float) (at[k] + 1.2e-7 * fabs(at[k]));
            spot->high[k] = (float) (at[k] - 1.2e-7 * fabs(at[k]));
        }
    }

    static inline void zo_aim(zo_ray *ray, double x, double y, double z, double dx, double dy, double dz) {
        const double at[3] = {x, y, z}, way[3] = {dx, dy, dz};
        for (int k = 0; k < 3; k++) {
            const int back = way[k] < 0.0;
            const double room = (back ? -1.2e-7 : 1.2e-7) * fabs(at[k]);
            ray->near[k] = (float) (at[k] + room);
            ray->far[k] = (float) (at[k] - room);
            ray->per[k] = (float) (fabs(way[k]) > 1e-30 ? 1.0 / way[k] : back ? -1e30 : 1e30);
            ray->first[k] = 4 * k + (back ? 12 : 0);
            ray->last[k] = 4 * k + (back ? 0 : 12);
        }
    }

    /* Which of four boxes a ray meets within reach, a bit each; and where it enters each. */
    static inline int zo_met(const float *group, const zo_ray *ray, double reach, float *entered) {
    #ifdef ZO_SSE
        __m128 in = _mm_setzero_ps(), out = _mm_set1_ps((float) reach * 1.000001f);
        for (int k = 0; k < 3; k++) {
            const __m128 per = _mm_set1_ps(ray->per[k]);
            const __m128 a = _mm_loadu_ps(group + ray->first[k]), b = _mm_loadu_ps(group + ray->last[k]);
            in = _mm_max_ps(_mm_mul_ps(_mm_sub_ps(a, _mm_set1_ps(ray->near[k])), per), in);
            out = _mm_min_ps(_mm_mul_ps(_mm_sub_ps(b, _mm_set1_ps(ray->far[k])), per), out);
        }
        _mm_storeu_ps(entered, in);
        return _mm_movemask_ps(_mm_cmple_ps(in, _mm_mul_ps(out, _mm_set1_ps(1.000001f))));
    #else
        int met = 0;
        for (int j = 0; j < 4; j++) {
            float in = 0.0f, out = (float) reach * 1.000001f;
            for (int k = 0; k < 3; k++) {
                const float a = (group[ray->first[k] + j] - ray->near[k]) * ray->per[k];
                const float b = (group[ray->last[k] + j] - ray->far[k]) * ray->per[k];
                in = a > in ? a : in;
                out = b < out ? b : out;
            }
            entered[j] = in;
            met |= (in <= out * 1.000001f) << j;
        }
        return met;
    #endif
    }

    /* The square of how far a place is from each of four boxes at least; which are not beyond a bound, a bit each. */
    static inline int zo_nearer(const float *group, const zo_spot *spot, double bound, float *away) {
        const float most = bound < 1e37 ? (float) bound * 1.000001f : 3e38f;
    #ifdef ZO_SSE
        const __m128 none = _mm_setzero_ps();
        __m128 total = none;
        for (int k = 0; k < 3; k++) {
            const __m128 a = _mm_sub_ps(_mm_loadu_ps(group + 4 * k), _mm_set1_ps(spot->low[k]));
            const __m128 b = _mm_sub_ps(_mm_set1_ps(spot->high[k]), _mm_loadu_ps(group + 12 + 4 * k));
            const __m128 off = _mm_max_ps(_mm_max_ps(a, b), none);
            total = _mm_add_ps(total, _mm_mul_ps(off, off));
        }
        _mm_storeu_ps(away, total);
        return _mm_movemask_ps(_mm_cmple_ps(total, _mm_set1_ps(most)));
    #else
        int nearer = 0;
        for (int j = 0; j < 4; j++) {
            float total = 0.0f;
            for (int k = 0; k < 3; k++) {
                const float a = group[4 * k + j] - spot->low[k], b = spot->high[k] - group[12 + 4 * k + j];
                float off = a > b ? a : b;
                off = off > 0.0f ? off : 0.0f;
                total += off * off;
            }
            away[j] = total;
            nearer |= (total <= most) << j;
        }
        return nearer;
    #endif
    }
    #endif
    """
    ctypedef struct zo_spot:
        pass
    ctypedef struct zo_ray:
        pass
    void zo_put(zo_spot *spot, double x, double y, double z) nogil
    void zo_aim(zo_ray *ray, double x, double y, double z, double dx, double dy, double dz) nogil
    int zo_met(const float *group, const zo_ray *ray, double reach, float *entered) nogil
    int zo_nearer(const float *group, const zo_spot *spot, double bound, float *away) nogil


from libc.stdint cimport int64_t

cdef enum:
    DEEP = 64  # nodes that wait at most: three of each level, and a few


cdef inline int64_t put_top(int64_t leaves, int64_t *stack) noexcept nogil:
    """Puts the topmost nodes that have groups on a stack: one or two, as leaves are two levels below each other."""
    cdef int64_t n = leaves
    while n >= 4:
        n //= 4
    stack[0], stack[1] = n, n + 1
    return n


cdef inline int held(int met, int64_t first, int64_t count) noexcept nogil:
    """Those of four triangles from ``first`` on that there are: the last leaf may hold fewer, others behind it none."""
    return met if first + 4 <= count else met & ((1 << max(count - first, 0)) - 1)


cdef inline int64_t put_nearest_last(
    int64_t n, int met, const float *away, int64_t *stack, float *waiting
) noexcept nogil:
    """Puts those of four nodes below one that are met on a stack, the nearest on top; how many."""
    cdef float own
    cdef int64_t at, k, size = 0
    for k in range(4):
        if met >> k & 1:
            at, own = size, away[k]
            while at > 0 and waiting[at - 1] < own:
                stack[at], waiting[at] = stack[at - 1], waiting[at - 1]
                at -= 1
            stack[at], waiting[at] = 4 * n + k, own
            size += 1
    return size
