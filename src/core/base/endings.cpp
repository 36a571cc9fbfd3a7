#include "core/base/endings.h"

#include <fcntl.h>
#include <unistd.h>

#include <csignal>
#include <initializer_list>

namespace cruscotto {

namespace {

void take(int number, void (*handler)(int)) {
    struct sigaction action {};
    action.sa_handler = handler;
    sigaction(number, &action, nullptr);
}

}  // namespace

void onEndingSignals(void (*handler)(int)) {
    for (const int number : {SIGHUP, SIGINT, SIGQUIT}) {
        struct sigaction now {};
        sigaction(number, nullptr, &now);
        if (now.sa_handler != SIG_IGN) take(number, handler);
    }
    for (const int number : {SIGTERM, SIGALRM, SIGUSR1, SIGUSR2, SIGVTALRM, SIGPROF, SIGXCPU, SIGPWR, SIGSTKFLT, SIGIO})
        take(number, handler);
    for (int number = SIGRTMIN; number <= SIGRTMAX; ++number) take(number, handler);
}

void prepareProcess() {
    take(SIGPIPE, SIG_IGN);
    take(SIGXFSZ, SIG_IGN);
    for (const int stream : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (fcntl(stream, F_GETFD) < 0) (void)::open("/dev/null", O_RDWR);  // takes the lowest number that is free
}

}  // namespace cruscotto
