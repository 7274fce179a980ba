from libc.stdint cimport int64_t, uint8_t

cdef (double, int64_t, bint) read_float(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil
