/* code.h — start-up code as bytes, made from src/boot/code when the library is built. */
#ifndef WS_BOOT_CODE_H
#define WS_BOOT_CODE_H

#include <stddef.h>
#include <stdint.h>

extern const uint8_t ws_code_bios_first[];
extern const size_t ws_code_bios_first_length;
extern const uint8_t ws_code_bios_second[];
extern const size_t ws_code_bios_second_length;
extern const uint8_t ws_code_uefi[];
extern const size_t ws_code_uefi_length;
/* Programs for Linux. */
extern const uint8_t ws_code_early[];
extern const size_t ws_code_early_length;
extern const uint8_t ws_code_grow[];
extern const size_t ws_code_grow_length;
extern const uint8_t ws_code_drivers[];
extern const size_t ws_code_drivers_length;

#endif
