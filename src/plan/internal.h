/* internal.h — what a plan is made of, for the rooms that make one. */
#ifndef WS_PLAN_INTERNAL_H
#define WS_PLAN_INTERNAL_H

#include "base/document.h"
#include "plan/rows.h"
#include "wild_satchel/plan.h"

enum { PLAN_EDITS_MOST = 32, PLAN_PARTS_MOST = 64, PLAN_CHOICES_MOST = 48, PLAN_REQUEST_ROWS = 12 };

struct ws_plan {
    struct ws_request request;
    struct ws_plan_drive drive;
    struct ws_plan_facts facts;
    struct ws_volume volume[WS_VOLUMES_MOST];
    size_t volumes;
    struct ws_plan_edit edit[PLAN_EDITS_MOST];
    size_t edits;
    struct ws_plan_part part[PLAN_PARTS_MOST];
    size_t parts;
    struct ws_plan_choice choice[PLAN_CHOICES_MOST];
    size_t choices;
    struct ws_outlook outlook[WS_OUTLOOKS];
    struct ws_findings findings;
    struct ws_carried_list carried;
    struct ws_guid id_of[WS_ROLES];      /* of volumes that are there already; zeros: it derives from the plan's */
    struct ws_own_family own_family;     /* of the request, read */
    const struct ws_live_family *family; /* that, or one known here */
};

/* rules.c: the rules' object without its format and version. */
enum ws_status plan_read_rules(json_t *object, struct ws_rules *rules, struct ws_error *error);
json_t *plan_rules_json(const struct ws_rules *rules);

/* request.c */
extern const struct row plan_request_rows[PLAN_REQUEST_ROWS];
enum ws_status plan_check_request(const struct ws_request *request, struct ws_error *error);
/* A document is UTF-8, and a path must be found again by what it holds. */
enum ws_status plan_check_path(const char *path, struct ws_error *error);

/* outlook.c: note a decision; dropped silently when the list is full. */
void plan_chose(struct ws_plan *plan, const char *what, const char *choice, const char *why, ...) WS_PRINTF(4, 5);
/* One more file that the drive has otherwise than its source. */
void plan_edited(struct ws_plan *plan, const char *path, const char *what, ...) WS_PRINTF(3, 4);
/* Where a drive with this image laid down whole will start, and why (not); NULL: without one. */
void plan_look_out(struct ws_plan *plan, const struct ws_image *image);
/* plan.c: the volume for this role, to be filled in. */
struct ws_volume *plan_volume(struct ws_plan *plan, enum ws_role role);
struct ws_volume *plan_add_volume(struct ws_plan *plan, enum ws_role role);

#endif
