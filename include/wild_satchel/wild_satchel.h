/* wild_satchel.h — everything: live and portable operating system drives decided, built, checked and proved.
 *
 * The idea. A request (request.h) says what is asked for, of no drive in particular. Decided for one drive it becomes a
 * plan (plan.h): volumes with places and sizes, what was chosen and why, where it will start. Behind it stands a layout
 * (layout.h): every byte the drive will hold, stated before the first is written. A layout is streamed to the drive,
 * read back, and sealed last, so that no drive looks finished that is not.
 *
 * The five calls of a first program, see examples/plan_and_build.c:
 *
 *     ws_request_begin(&request, WS_KIND_LIVE);                          a live system that remembers, as is usual
 *     ws_plan_drive_of(&facts, &setting.drive);                          on this drive, as its port describes it
 *     ws_build_prepare(&request, &setting, &build, &error);              decided and laid out; nothing is written
 *     ws_build_carry_out(build, port, drive, &options, &result, &error); written, read back, sealed
 *     ws_build_close(build);
 *
 * Every call that can fail returns enum ws_status and fills a struct ws_error with words for a technician. What a call
 * borrows is said where it is declared: a build borrows the sources in its setting until it is closed, and its plan and
 * layout are gone with it. The hardware stands behind the tables of port.h; port/ has those for this machine
 * (port/linux.h), a simulated bench (port/sim.h) and emulated PCs (port/emulator.h).
 *
 * The subjects: status.h, base.h · source.h, shared.h, tree.h, names.h, rules.h · layout.h, lock.h, write.h, pieces.h ·
 * port.h, trial.h · table.h · format.h with ext4.h, fat.h, exfat.h, iso9660.h, squashfs.h, archive.h, label.h · live.h
 * · image.h, medium.h, contents.h, published.h · start.h, system.h · request.h, plan.h, sizing.h · build.h, batch.h ·
 * snapshot.h, proof.h, passport.h, journal.h, keep.h.
 */
#ifndef WILD_SATCHEL_H
#define WILD_SATCHEL_H

#include "wild_satchel/ability.h"
#include "wild_satchel/api.h"
#include "wild_satchel/archive.h"
#include "wild_satchel/base.h"
#include "wild_satchel/batch.h"
#include "wild_satchel/build.h"
#include "wild_satchel/change.h"
#include "wild_satchel/room.h"
#include "wild_satchel/container.h"
#include "wild_satchel/contents.h"
#include "wild_satchel/exfat.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/format.h"
#include "wild_satchel/image.h"
#include "wild_satchel/initrd.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/label.h"
#include "wild_satchel/layout.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/live.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/names.h"
#include "wild_satchel/owner.h"
#include "wild_satchel/password.h"
#include "wild_satchel/pieces.h"
#include "wild_satchel/plan.h"
#include "wild_satchel/port.h"
#include "wild_satchel/published.h"
#include "wild_satchel/renew.h"
#include "wild_satchel/request.h"
#include "wild_satchel/rules.h"
#include "wild_satchel/shared.h"
#include "wild_satchel/squashfs.h"
#include "wild_satchel/start.h"
#include "wild_satchel/system.h"
#include "wild_satchel/snapshot.h"
#include "wild_satchel/proof.h"
#include "wild_satchel/passport.h"
#include "wild_satchel/journal.h"
#include "wild_satchel/keep.h"
#include "wild_satchel/sizing.h"
#include "wild_satchel/source.h"
#include "wild_satchel/status.h"
#include "wild_satchel/table.h"
#include "wild_satchel/tree.h"
#include "wild_satchel/twin.h"
#include "wild_satchel/used.h"
#include "wild_satchel/trial.h"
#include "wild_satchel/udf.h"
#include "wild_satchel/write.h"

#endif
