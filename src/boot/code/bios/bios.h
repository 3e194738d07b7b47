/* bios.h — the BIOS machine's parts for each other. */
#ifndef WS_START_BIOS_H
#define WS_START_BIOS_H

#include "../start.h"

/* As stage.S lays them out. */
struct bios_registers {
    uint32_t eax, ebx, ecx, edx, esi, edi;
    uint16_t ds, es;
    uint32_t flags; /* out; bit 0 is the carry, by which a BIOS says "failed" */
};

/* stage.S */
void bios_call(unsigned number, struct bios_registers *r);
void bios_enter_kernel(void);
void bios_main(unsigned drive);

/* memory.c: the memory map; what is taken is taken from the top downwards. */
bool bios_memory_begin(struct start_machine *m);
void *bios_take(struct start_machine *m, uint64_t bytes);
/* From now on nothing is taken at or above this address. */
void bios_memory_limit(uint32_t end);
/* Is all of this free RAM that nothing was taken from? */
bool bios_memory_is_free(uint32_t at, uint32_t length);

/* console.c */
void bios_put(struct start_machine *m, const char *text);
void bios_clear(struct start_machine *m);
unsigned bios_key(struct start_machine *m, uint32_t wait_ms);
void bios_serial(struct start_machine *m, unsigned port, uint32_t speed);

/* linux.c */
bool bios_launch(struct start_machine *m, const struct start_launch *l);

static inline void bios_out(uint16_t port, uint8_t value) {
    __asm__ volatile("outb %0, %1" : : "a"(value), "Nd"(port));
}
static inline uint8_t bios_in(uint16_t port) {
    uint8_t value;
    __asm__ volatile("inb %1, %0" : "=a"(value) : "Nd"(port));
    return value;
}

#endif
