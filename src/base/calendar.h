/* calendar.h — days and dates of the Gregorian calendar, and times as DOS file systems store them; all in UTC. */
#ifndef WS_BASE_CALENDAR_H
#define WS_BASE_CALENDAR_H

#include <stdint.h>

/** Days since 1970-01-01 of a date; month 1 to 12, day 1 to 31. */
static inline int64_t ws_days_of(int64_t year, unsigned month, unsigned day) {
    year -= month <= 2; /* years that begin in March end in the leap day */
    int64_t era = (year >= 0 ? year : year - 399) / 400;
    unsigned of_era = (unsigned)(year - era * 400);
    unsigned of_year = (153 * (month + (month > 2 ? -3u : 9u)) + 2) / 5 + day - 1;
    return era * 146097 + (int64_t)(of_era * 365 + of_era / 4 - of_era / 100 + of_year) - 719468;
}

/** The date of a day since 1970-01-01. */
static inline void ws_date_of(int64_t days, int64_t *year, unsigned *month, unsigned *day) {
    int64_t z = days + 719468;
    int64_t era = (z >= 0 ? z : z - 146096) / 146097;
    unsigned of_era = (unsigned)(z - era * 146097);
    unsigned y = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    unsigned of_year = of_era - (365 * y + y / 4 - y / 100);
    unsigned m = (5 * of_year + 2) / 153;
    *day = of_year - (153 * m + 2) / 5 + 1;
    *month = m < 10 ? m + 3 : m - 9;
    *year = (int64_t)y + era * 400 + (*month <= 2);
}

/** Seconds since 1970 as DOS has them: the date in the upper 16 bits, the time in two-second steps below. What lies
 *  outside 1980 to 2107 becomes the nearest moment inside. */
static inline uint32_t ws_dos_time(int64_t seconds) {
    int64_t year;
    unsigned month, day;
    if (seconds < 315532800) seconds = 315532800;
    if (seconds > 4354819198) seconds = 4354819198;
    ws_date_of(seconds / 86400, &year, &month, &day);
    uint32_t rest = (uint32_t)(seconds % 86400);
    return (uint32_t)(year - 1980) << 25 | month << 21 | day << 16 | rest / 3600 << 11 | rest / 60 % 60 << 5 |
           rest % 60 / 2;
}

/** And back; 0 for a stamp that is no date. */
static inline int64_t ws_time_of_dos(uint32_t stamp) {
    unsigned month = stamp >> 21 & 15;
    unsigned day = stamp >> 16 & 31;
    if (month < 1 || month > 12 || day < 1) return 0;
    return ws_days_of(1980 + (stamp >> 25), month, day) * 86400 + (stamp >> 11 & 31) * 3600 + (stamp >> 5 & 63) * 60 +
           (stamp & 31) * 2;
}

#endif
