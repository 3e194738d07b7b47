/* emulator.h — a PC that is a real emulator with real firmware, the drive on its USB port, talked to over serial. */
#ifndef WS_PORT_EMULATOR_H
#define WS_PORT_EMULATOR_H

#include "wild_satchel/port.h"

WS_BEGIN

struct ws_emulator_params {
    enum ws_firmware firmware;
    bool secure_boot;     /**< with the firmware's factory keys */
    unsigned memory_mib;  /**< 0: 1024 */
    const char *log_path; /**< everything the console says is added here; may be NULL */
};
/** A PC that starts drives given as paths to image files or block devices.
 *  @return WS_E_NOTFOUND if the emulator or its firmware is not installed (the text names the package) */
WS_CHECKED enum ws_status ws_emulator_pc(const struct ws_emulator_params *params, struct ws_pc **pc,
                                         struct ws_error *error);

WS_END

#endif
