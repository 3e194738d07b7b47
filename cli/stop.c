/* stop.c — Ctrl-C and its kin in the middle of writing: stop between two writes, say so, leave a drive that says so. */
#include "cli/cli.h"

#include <signal.h>
#include <string.h>
#include <unistd.h>

static volatile sig_atomic_t asked;

static void on_signal(int number) {
    static const char said[] = "\nStopping after the write under way; once more stops at once.\n";
    asked = number;
    if (number == SIGINT && isatty(STDERR_FILENO)) (void)!write(STDERR_FILENO, said, sizeof said - 1);
}

void stop_listen(void) {
    static const int signals[] = {SIGINT, SIGTERM, SIGHUP};
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_handler = on_signal;
    action.sa_flags = (int)SA_RESETHAND; /* the second time it ends the program, as ever */
    for (size_t i = 0; i < sizeof signals / sizeof signals[0]; i++) {
        struct sigaction was;
        bool ignored = sigaction(signals[i], NULL, &was) == 0 && was.sa_handler == SIG_IGN; /* as nohup does */
        if (!ignored) (void)sigaction(signals[i], &action, NULL);
    }
}

bool stop_asked(void) { return asked != 0; }
