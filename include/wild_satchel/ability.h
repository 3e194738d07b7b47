/* ability.h — can a live system remember? Read from the scripts and drivers in its initial RAM disk, not guessed.
 *
 * The scripts name the kernel parameters they go by, the labels of volumes and the names of files they look for; a
 * driver is a module in it, or built into its kernel, where it says so (modules.builtin).
 */
#ifndef WILD_SATCHEL_ABILITY_H
#define WILD_SATCHEL_ABILITY_H

#include "wild_satchel/initrd.h"
#include "wild_satchel/live.h"

WS_BEGIN

struct ws_live_ability {
    bool read;        /**< its initial RAM disk was read; else nothing of what follows is known */
    char initrd[256]; /**< which one, of the medium */
    char maker[20];   /**< what made it, see struct ws_initrd_facts */
    bool scripts;     /**< scripts of this family are in it; else nothing is known of the next three */
    bool parameter;   /**< they know all its kernel parameters */
    bool volume;      /**< and its volume by the label, where the parameters do not say that */
    bool file;        /**< and the name of its overlay file, likewise */
    bool locked;      /**< they open locked volumes, and what they need for that is in it */
    uint32_t drivers; /**< bit N: driver N is in it, or known to be built into its kernel */
    bool built_in;    /**< it says what is: a driver that is not among those is nowhere */
};
/** What a live medium's default entry starts.
 *  @return WS_E_NOTFOUND, WS_E_FORMAT: why it is not read; the ability says so, too */
WS_CHECKED enum ws_status ws_live_ability_look(const struct ws_tree *medium, const struct ws_live_family *family,
                                               struct ws_live_ability *ability, struct ws_error *error);

WS_END

#endif
