/* make_image.c — writes the demo's images to files: the live image, with filler of so many MiB to make it larger; or
 * the office PC's disk. */
#include "demo/demo_image.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

int main(int argc, char **argv) {
    enum { STEP = 1 << 20 };
    struct demo_params params = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct ws_error error = {0};
    if (argc < 2 || argv[1][0] == '-') {
        fprintf(stderr, "demo-image FILE [FAMILY|none|newer|newer-FAMILY|office|office-later [MIB]]\n");
        return 2;
    }
    params.newer = argc > 2 && strncmp(argv[2], "newer", 5) == 0;
    if (params.newer && argv[2][5] == '-') params.family = argv[2] + 6;
    if (argc > 2 && !params.newer) params.family = strcmp(argv[2], "none") == 0 ? NULL : argv[2];
    if (argc > 3) params.ballast = strtoull(argv[3], NULL, 10) << 20;
    const bool office = argc > 2 && strncmp(argv[2], "office", 6) == 0;
    const bool later = office && strcmp(argv[2], "office-later") == 0;
    if ((office ? demo_office_make(later, &image, &error) : demo_image_make(&params, &image, &error)) != WS_OK) {
        fprintf(stderr, "demo-image: %s\n", error.what);
        return 4;
    }
    FILE *file = fopen(argv[1], "wbx");
    char *buffer = malloc(STEP);
    bool good = file && buffer;
    for (uint64_t at = 0; good && at < image.source->size; at += STEP) {
        size_t step = image.source->size - at < STEP ? (size_t)(image.source->size - at) : STEP;
        const struct ws_piece piece = ws_source_piece(image.source, at, step);
        if (piece.kind == WS_PIECE_HOLE && piece.length == step) continue; /* a file with holes */
        good = ws_source_read(image.source, at, buffer, step, &error) == WS_OK &&
               fseek(file, (long)at, SEEK_SET) == 0 && fwrite(buffer, 1, step, file) == step;
    }
    if (good && fflush(file) == 0) good = ftruncate(fileno(file), (off_t)image.source->size) == 0;
    if (file && fclose(file) != 0) good = false;
    if (!good) fprintf(stderr, "demo-image: %s could not be written: %s\n", argv[1], strerror(errno));
    free(buffer);
    demo_image_free(&image);
    return good ? 0 : 4;
}
