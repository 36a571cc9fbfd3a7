#pragma once

#include <string>

#include "app/document/newest_job.h"
#include "core/bench/stretch_measures.h"

namespace cruscotto {

struct MeasureQuestion {
    std::string signal, against;
    Span span;
    bool operator==(const MeasureQuestion&) const = default;
};
struct MeasureAnswer {
    MeasureQuestion question;
    Result<StretchMeasures> measures;
};

/// Measures a stretch on a thread of its own. The source must be there until stop() has returned.
class MeasureJob : public NewestJob<MeasureAnswer> {
public:
    using Question = MeasureQuestion;
    using Answer = MeasureAnswer;
    void ask(const Bench& bench, const Source& source, const Question& question) {
        NewestJob::ask([bench, &source, question](Progress& progress) {
            return Answer{question,
                          measuresOver(bench, source, question.signal, question.against, question.span, &progress)};
        });
    }
};

}  // namespace cruscotto
