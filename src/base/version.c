/* version.c — which version is running. */
#include "wild_satchel/api.h"

const char *ws_version(void) { return WS_VERSION; }
