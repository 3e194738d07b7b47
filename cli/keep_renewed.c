/* keep_renewed.c — satchel keep renew: a newer image of the same system under what a drive remembers. */
#include "cli/history.h"
#include "cli/keep.h"
#include "cli/wishes.h"

#include <stdio.h>

static const char *stay_word(unsigned i) {
    static const char *const words[] = {"all", "home", "nothing"};
    return words[i];
}

/* A list of packages that tells of the older image, laid over the newer one, misleads the package manager for good:
 * somebody has to choose. */
static enum ws_status check_trap(struct cli *cli, const struct ws_live_renewal *r) {
    if (keep_asked.stays || !r->packages_differ) return WS_OK;
    ws_fail(
        &cli->error, WS_E_REFUSED,
        "programs were installed on this drive, and its list of packages (%s) tells of the older image: over the newer "
        "one it would name versions that are not there, and %llu older files would hide newer ones",
        r->packages, (unsigned long long)r->hides);
    return ws_fail_next(&cli->error,
                        "choose what stays: --stays home (people's files; programs are installed again), "
                        "--stays all (as it is, and updated by its package manager), --stays nothing; nothing "
                        "was written");
}

static json_t *renewal_json(const struct cli *cli, const struct ws_live_renewal *told, unsigned stay) {
    return cli->json ? cli_pack("{s:o}", "renewal", keep_renewal_json(told, stay_word(stay))) : NULL;
}

static enum ws_status lay_under(struct keeping *k, const struct ws_source *source) {
    struct cli *cli = k->cli;
    struct ws_build_setting setting;
    struct ws_live_renewal told;
    unsigned stay = WS_STAYS_ALL;
    char loses[200];
    if (keep_asked.stays) WS_TRY(cli_pick(cli, "--stays", keep_asked.stays, stay_word, 0, 3, &stay));
    WS_TRY(ws_build_setting_begin(&setting, cli->port, &k->facts, &cli->error));
    setting.input[WS_INPUT_IMAGE] = source;
    busy_begin(cli, "comparing it with what is on %.60s", k->facts.short_name);
    enum ws_status status = ws_kept_renew(k->kept, &setting, keep_asked.image, (enum ws_stays)stay, &told, &cli->error);
    busy_end();
    WS_TRY(status);
    keep_show_renewal(k, &told, (enum ws_stays)stay);
    if (told.same && stay == WS_STAYS_ALL) {
        const struct ws_kept_cost none = {.free_after = ws_kept_facts(k->kept)->free_bytes};
        keep_conclude(k, "has this very image already", &none, renewal_json(cli, &told, stay));
        return WS_OK;
    }
    WS_TRY(check_trap(cli, &told));
    (void)snprintf(loses, sizeof loses, "gets %.100s in the place of its system", told.is[0] ? told.is : "this image");
    k->to_prove = true;
    return keep_do(k, loses, HISTORY_RENEWED, renewal_json(cli, &told, stay));
}

enum ws_status keep_renew(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_source *source = NULL;
    struct ws_packed_facts packed;
    if (!keep_asked.image)
        return ws_fail(&cli->error, WS_E_USAGE, "say which image takes the place of the one on it: --image FILE");
    WS_TRY(cli_open_image(cli, keep_asked.image, WS_KIND_LIVE, &source, &packed));
    enum ws_status status = keep_open(k, true);
    if (status == WS_OK) status = lay_under(k, source);
    keep_close(k);
    ws_source_close(source);
    return status;
}
