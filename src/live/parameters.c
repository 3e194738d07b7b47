/* parameters.c — words of a kernel command line. */
#include "wild_satchel/live.h"

#include <stdio.h>
#include <string.h>

bool ws_parameter_is_set(const char *parameters, const char *word) {
    size_t n = strlen(word);
    bool prefix = n > 0 && (word[n - 1] == '=' || word[n - 1] == ':');
    for (const char *p = parameters; *p;) {
        while (*p == ' ' || *p == '\t') p++;
        size_t length = strcspn(p, " \t");
        if (prefix ? length >= n && strncmp(p, word, n) == 0 : length == n && strncmp(p, word, n) == 0) return true;
        p += length;
    }
    return false;
}

bool ws_parameters_are_set(const char *parameters, const char *wanted, char *missing, size_t room) {
    while (*wanted) {
        size_t n = strcspn(wanted, " ");
        (void)snprintf(missing, room, "%.*s", (int)n, wanted);
        if (!ws_parameter_is_set(parameters, missing)) return false;
        wanted += n + (wanted[n] == ' ');
    }
    return true;
}
