#pragma once

namespace cruscotto {

/// Whatever asks the program to end (SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGALRM, SIGUSR1, SIGUSR2, SIGXCPU, SIGPWR ...,
/// the real-time signals) calls this from now on, instead of ending it at once with outputs driven and a run open. The
/// handler must be async-signal-safe. SIGHUP, SIGINT and SIGQUIT stay ignored where whoever started the program wanted
/// that, as nohup does. To be called before threads are made.
void onEndingSignals(void (*handler)(int));

/// What a program needs before anything else: a reader that goes away (SIGPIPE) and a file that may not grow (SIGXFSZ)
/// are told as errors of the write, and the standard streams are open, so that no file of ours is taken for one of
/// them.
void prepareProcess();

}  // namespace cruscotto
