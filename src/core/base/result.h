#pragma once

#include <optional>
#include <utility>
#include <variant>

#include "core/base/text.h"

namespace cruscotto {

/// What went wrong, why, and what to do next, in words for the person at the bench.
struct Error {
    Text message;
    [[nodiscard]] std::string english() const { return message.english(); }
};

template <class... A>
Error failure(const char* pattern, const A&... values) {
    return Error{text(pattern, values...)};
}

/// A value or an Error. Precondition of value(): ok(); of error(): !ok().
template <class T>
class [[nodiscard]] Result {
public:
    Result(T value) : state_(std::move(value)) {}
    Result(Error error) : state_(std::move(error)) {}
    [[nodiscard]] bool ok() const { return state_.index() == 0; }
    explicit operator bool() const { return ok(); }
    [[nodiscard]] T& value() { return std::get<0>(state_); }
    [[nodiscard]] const T& value() const { return std::get<0>(state_); }
    [[nodiscard]] const Error& error() const { return std::get<1>(state_); }

private:
    std::variant<T, Error> state_;
};

template <>
class [[nodiscard]] Result<void> {
public:
    Result() = default;
    Result(Error error) : error_(std::move(error)) {}
    [[nodiscard]] bool ok() const { return !error_; }
    explicit operator bool() const { return ok(); }
    [[nodiscard]] const Error& error() const { return *error_; }

private:
    std::optional<Error> error_;
};

}  // namespace cruscotto
