/* tasks.c — tasks beside each other on the bench's own clock.
 *
 * Each task has a time of its own. Only one runs, the one that is furthest behind: whoever spends time, on a drive or
 * waiting, hands over to it. So drives that are written at once take the time of the slowest, and the same happens in
 * the same order however fast the machine is.
 */
#include "port/sim/internal.h"

#include <pthread.h>
#include <stdlib.h>

struct ws_task {
    struct sim_tasks *all;
    struct ws_task *next; /* in the list of all that have not ended, or are not joined yet */
    pthread_t thread;
    pthread_cond_t turn;
    bool threaded, ended;
    double now;
    const struct ws_task *waits_for;
    void (*work)(void *context);
    void *context;
};

struct sim_tasks {
    double *clock; /* the bench's: that of the task that runs */
    pthread_mutex_t mutex;
    struct ws_task main, *running;
};

struct sim_tasks *sim_tasks_open(double *clock) {
    struct sim_tasks *all = calloc(1, sizeof *all);
    if (!all) return NULL;
    all->clock = clock;
    (void)pthread_mutex_init(&all->mutex, NULL);
    all->main.all = all;
    (void)pthread_cond_init(&all->main.turn, NULL);
    all->running = &all->main;
    return all;
}

void sim_tasks_close(struct sim_tasks *all) {
    if (!all) return;
    (void)pthread_cond_destroy(&all->main.turn);
    (void)pthread_mutex_destroy(&all->mutex);
    free(all);
}

static bool can_run(const struct ws_task *t) { return !t->ended && (!t->waits_for || t->waits_for->ended); }

/* A task that waited for another has that one's time when it goes on. */
static double time_of(const struct ws_task *t) {
    return t->waits_for && t->waits_for->now > t->now ? t->waits_for->now : t->now;
}

/* The one furthest behind; of several the one that has been there longest. The list begins with the youngest. */
static struct ws_task *furthest_behind(struct sim_tasks *all) {
    struct ws_task *best = NULL;
    for (struct ws_task *t = all->main.next; t; t = t->next)
        if (can_run(t) && (!best || time_of(t) <= time_of(best))) best = t;
    if (can_run(&all->main) && (!best || time_of(&all->main) <= time_of(best))) best = &all->main;
    return best;
}

/* Under the mutex, by the task that runs: whose turn is it? */
static void hand_over(struct sim_tasks *all) {
    all->running->now = *all->clock;
    struct ws_task *next = furthest_behind(all);
    next->now = time_of(next);
    next->waits_for = NULL;
    *all->clock = next->now;
    all->running = next;
    (void)pthread_cond_signal(&next->turn);
}

static void wait_for_turn(struct sim_tasks *all, struct ws_task *me) {
    while (all->running != me) (void)pthread_cond_wait(&me->turn, &all->mutex);
}

void sim_tasks_spend(struct sim_tasks *all, double seconds) {
    *all->clock += seconds;
    if (!all->main.next) return; /* alone */
    (void)pthread_mutex_lock(&all->mutex);
    struct ws_task *me = all->running;
    hand_over(all);
    wait_for_turn(all, me);
    (void)pthread_mutex_unlock(&all->mutex);
}

static void *run_task(void *argument) {
    struct ws_task *t = argument;
    (void)pthread_mutex_lock(&t->all->mutex);
    wait_for_turn(t->all, t);
    (void)pthread_mutex_unlock(&t->all->mutex);
    t->work(t->context);
    (void)pthread_mutex_lock(&t->all->mutex);
    t->now = *t->all->clock;
    t->ended = true;
    hand_over(t->all);
    (void)pthread_mutex_unlock(&t->all->mutex);
    return NULL;
}

enum ws_status sim_tasks_start(struct sim_tasks *all, void (*work)(void *context), void *context, struct ws_task **task,
                               struct ws_error *error) {
    struct ws_task *t = calloc(1, sizeof *t);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for a task");
    t->all = all;
    t->work = work;
    t->context = context;
    t->now = *all->clock;
    (void)pthread_cond_init(&t->turn, NULL);
    (void)pthread_mutex_lock(&all->mutex);
    t->threaded = pthread_create(&t->thread, NULL, run_task, t) == 0;
    if (t->threaded) {
        t->next = all->main.next;
        all->main.next = t;
    }
    (void)pthread_mutex_unlock(&all->mutex);
    if (!t->threaded) { /* no thread to be had: at once, then */
        work(context);
        t->ended = true;
    }
    *task = t;
    return WS_OK;
}

void sim_tasks_join(struct sim_tasks *all, struct ws_task *task) {
    (void)pthread_mutex_lock(&all->mutex);
    struct ws_task *me = all->running;
    if (!task->ended) {
        me->waits_for = task;
        hand_over(all);
        wait_for_turn(all, me);
    } else if (task->now > *all->clock) {
        *all->clock = task->now;
    }
    for (struct ws_task *t = &all->main; t->next; t = t->next)
        if (t->next == task) {
            t->next = task->next;
            break;
        }
    (void)pthread_mutex_unlock(&all->mutex);
    if (task->threaded) (void)pthread_join(task->thread, NULL);
    (void)pthread_cond_destroy(&task->turn);
    free(task);
}
