/* bytes.h — on-disk numbers, read and written field by field whatever the machine's own order is. */
#ifndef WS_BASE_BYTES_H
#define WS_BASE_BYTES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

static inline uint16_t ws_load_le16(const uint8_t *p) { return (uint16_t)(p[0] | p[1] << 8); }
static inline uint32_t ws_load_le32(const uint8_t *p) {
    return (uint32_t)p[0] | (uint32_t)p[1] << 8 | (uint32_t)p[2] << 16 | (uint32_t)p[3] << 24;
}
static inline uint64_t ws_load_le64(const uint8_t *p) {
    return (uint64_t)ws_load_le32(p) | (uint64_t)ws_load_le32(p + 4) << 32;
}
static inline uint16_t ws_load_be16(const uint8_t *p) { return (uint16_t)(p[0] << 8 | p[1]); }
static inline uint32_t ws_load_be32(const uint8_t *p) {
    return (uint32_t)p[0] << 24 | (uint32_t)p[1] << 16 | (uint32_t)p[2] << 8 | (uint32_t)p[3];
}
static inline uint64_t ws_load_be64(const uint8_t *p) {
    return (uint64_t)ws_load_be32(p) << 32 | (uint64_t)ws_load_be32(p + 4);
}
static inline void ws_store_le16(uint8_t *p, uint16_t v) {
    p[0] = (uint8_t)v;
    p[1] = (uint8_t)(v >> 8);
}
static inline void ws_store_le32(uint8_t *p, uint32_t v) {
    ws_store_le16(p, (uint16_t)v);
    ws_store_le16(p + 2, (uint16_t)(v >> 16));
}
static inline void ws_store_le64(uint8_t *p, uint64_t v) {
    ws_store_le32(p, (uint32_t)v);
    ws_store_le32(p + 4, (uint32_t)(v >> 32));
}
static inline void ws_store_be16(uint8_t *p, uint16_t v) {
    p[0] = (uint8_t)(v >> 8);
    p[1] = (uint8_t)v;
}
static inline void ws_store_be32(uint8_t *p, uint32_t v) {
    ws_store_be16(p, (uint16_t)(v >> 16));
    ws_store_be16(p + 2, (uint16_t)v);
}
static inline void ws_store_be64(uint8_t *p, uint64_t v) {
    ws_store_be32(p, (uint32_t)(v >> 32));
    ws_store_be32(p + 4, (uint32_t)v);
}

static inline uint64_t ws_min_u64(uint64_t a, uint64_t b) { return a < b ? a : b; }
static inline uint64_t ws_max_u64(uint64_t a, uint64_t b) { return a > b ? a : b; }
static inline uint64_t ws_div_up(uint64_t a, uint64_t b) { return a / b + (a % b != 0); }
/** Round up to a multiple of `unit`; the caller keeps `a` far enough from 2^64. */
static inline uint64_t ws_round_up(uint64_t a, uint64_t unit) { return ws_div_up(a, unit) * unit; }
/** Does [at, at + length) lie inside [0, size)? Safe against overflow. */
static inline bool ws_inside(uint64_t at, uint64_t length, uint64_t size) { return at <= size && length <= size - at; }

#endif
