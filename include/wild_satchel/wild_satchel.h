/* wild_satchel.h — everything. docs/guide.md goes through it in the order of a technician's work. */
#ifndef WILD_SATCHEL_H
#define WILD_SATCHEL_H

#include "wild_satchel/archive.h"
#include "wild_satchel/base.h"
#include "wild_satchel/build.h"
#include "wild_satchel/contents.h"
#include "wild_satchel/exfat.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/image.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/label.h"
#include "wild_satchel/layout.h"
#include "wild_satchel/live.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/names.h"
#include "wild_satchel/plan.h"
#include "wild_satchel/port.h"
#include "wild_satchel/published.h"
#include "wild_satchel/rules.h"
#include "wild_satchel/squashfs.h"
#include "wild_satchel/start.h"
#include "wild_satchel/proof.h"
#include "wild_satchel/sizing.h"
#include "wild_satchel/source.h"
#include "wild_satchel/status.h"
#include "wild_satchel/table.h"
#include "wild_satchel/tree.h"
#include "wild_satchel/trial.h"
#include "wild_satchel/write.h"

#endif
