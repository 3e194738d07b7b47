/* internal.h — parts of the plan document. */
#ifndef WS_PLAN_INTERNAL_H
#define WS_PLAN_INTERNAL_H

#include "wild_satchel/plan.h"

#include <jansson.h>

/* rules.c: the rules' object without its format and version. */
enum ws_status plan_read_rules(json_t *object, struct ws_rules *rules, struct ws_error *error);
json_t *plan_rules_json(const struct ws_rules *rules);

#endif
