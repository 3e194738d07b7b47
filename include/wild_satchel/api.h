/* api.h — what every public header needs: names with C linkage, seen from outside; the version. */
#ifndef WILD_SATCHEL_API_H
#define WILD_SATCHEL_API_H

#define WS_VERSION_MAJOR 0
#define WS_VERSION_MINOR 3
#define WS_VERSION_PATCH 0
#define WS_VERSION "0.3.0"

#ifdef __cplusplus
#define WS_C_BEGIN extern "C" {
#define WS_C_END }
#else
#define WS_C_BEGIN
#define WS_C_END
#endif

#ifdef __GNUC__ /* the library is compiled with all names hidden but these */
#define WS_BEGIN _Pragma("GCC visibility push(default)") WS_C_BEGIN
#define WS_END WS_C_END _Pragma("GCC visibility pop")
#else
#define WS_BEGIN WS_C_BEGIN
#define WS_END WS_C_END
#endif

/** A result that must be looked at. Define WS_UNCHECKED to do without the compiler's warning. */
#if defined(__GNUC__) && !defined(WS_UNCHECKED)
#define WS_CHECKED __attribute__((warn_unused_result))
#else
#define WS_CHECKED
#endif

WS_BEGIN
/** The version of the library that is running; WS_VERSION is the one a program was compiled with. */
const char *ws_version(void);
WS_END

#endif
