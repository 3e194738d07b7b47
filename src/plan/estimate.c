/* estimate.c — times as ranges, from a trial of the drive or from what its kind usually does; usual warnings. */
#include "base/bytes.h"
#include "wild_satchel/sizing.h"

#include <stdio.h>
#include <string.h>

/* What drives of a kind usually do, bytes a second: slow and fast ones of it. */
static const struct kind {
    const char *what;
    double write_low, write_high, read_low, read_high;
} kinds[] = {
    {"a stick on USB 2", 3e6, 12e6, 15e6, 35e6},
    {"a stick on USB 3", 8e6, 60e6, 60e6, 200e6},
    {"an external disk on USB 2", 25e6, 35e6, 28e6, 38e6},
    {"an external disk on USB 3", 80e6, 400e6, 90e6, 430e6},
    {"a memory card", 5e6, 40e6, 15e6, 90e6},
    {"a file", 100e6, 1000e6, 200e6, 3000e6},
    {"a drive on an unknown bus", 4e6, 60e6, 15e6, 150e6},
};

static bool slow_usb(const struct ws_drive_facts *d) {
    return strcmp(d->bus, "usb") == 0 && d->bus_bits_s > 0 && d->bus_bits_s < 5000000000ull;
}

static const struct kind *kind_of(const struct ws_drive_facts *d) {
    bool disk = d->removable == WS_NO;
    if (d->kind == WS_DRIVE_FILE) return &kinds[5];
    if (strcmp(d->bus, "mmc") == 0) return &kinds[4];
    if (strcmp(d->bus, "usb") == 0 && d->bus_bits_s) return &kinds[(disk ? 2 : 0) + (slow_usb(d) ? 0 : 1)];
    return &kinds[6];
}

void ws_estimate_times(const struct ws_drive_facts *drive, const struct ws_trial *trial, uint64_t write_bytes,
                       uint64_t image_bytes, struct ws_estimate *e) {
    const struct kind *k = kind_of(drive);
    struct kind rates = *k;
    /* A system reads a quarter to two thirds of itself on its first start, after its firmware has had its time. */
    static const double firmware_low = 6, firmware_high = 25, cpu_low = 8, cpu_high = 40;
    memset(e, 0, sizeof *e);
    if (trial && trial->write_bytes_s > 0 && trial->read_bytes_s > 0) {
        e->measured = true;
        rates = (struct kind){"this drive", trial->write_bytes_s * 0.85, trial->write_bytes_s * 1.05,
                              trial->read_bytes_s * 0.85, trial->read_bytes_s * 1.05};
    }
    double w = (double)write_bytes;
    e->build_low_s = w / rates.write_high + w / rates.read_high;
    e->build_high_s = w / rates.write_low + w / rates.read_low;
    (void)snprintf(e->build_by, sizeof e->build_by, "writing takes %.0f %% of it, on %s",
                   100 * (w / rates.write_low) / (e->build_high_s > 0 ? e->build_high_s : 1), rates.what);
    double low = 0.25 * (double)image_bytes / rates.read_high;
    double high = 0.66 * (double)image_bytes / rates.read_low;
    e->start_low_s = firmware_low + cpu_low + low;
    e->start_high_s = firmware_high + cpu_high + high;
    (void)snprintf(e->start_by, sizeof e->start_by, "%s",
                   high > firmware_high + cpu_high ? "reading the image from the drive"
                                                   : "the PC's firmware and processor, not the drive");
}

void ws_drive_warnings(const struct ws_drive_facts *d, const struct ws_trial *trial, uint64_t size,
                       uint64_t persistence, bool system, struct ws_findings *f) {
    const char *use = system ? "full system" : "live with persistence";
    char a[48];
    if (d && slow_usb(d))
        ws_findings_add(
            f, WS_WARNING,
            "it is plugged into a USB 2 port, or is a USB 2 drive: building and starting take several times as "
            "long as on USB 3");
    if (size < 3900000000ull)
        ws_findings_add(f, WS_WARNING, "%s is less than the usual 4 GB: little stays beside a system",
                        ws_size_both(size, a, sizeof a));
    if (persistence && persistence < 256ull << 20)
        ws_findings_add(f, WS_WARNING, "so little persistence is soon full: a system update alone can fill it");
    else if (persistence && persistence < 1ull << 30)
        ws_findings_add(f, WS_WARNING,
                        "under 1 GiB of persistence holds documents, but a few programs or a system update fill it");
    if (trial && !trial->sound)
        ws_findings_add(f, WS_FAULT, "its trial found it %s: do not use it",
                        trial->holds < trial->drive_size ? "smaller than it says" : "unsound");
    for (size_t i = 0; trial && i < WS_TRIAL_USES; i++)
        if (trial->use[i].use && strcmp(trial->use[i].use, use) == 0 && trial->use[i].fit != WS_FIT_GOOD &&
            (trial->use[i].fit == WS_FIT_POOR || trial->sound))
            ws_findings_add(f, WS_WARNING, "slow for a %s: %s%s", system ? "full system" : "live system that remembers",
                            trial->use[i].why,
                            system ? "; whatever writes in the background makes it stand still" : "");
}
