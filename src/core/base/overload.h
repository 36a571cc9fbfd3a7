#pragma once

namespace cruscotto {

/// A function for each type of a variant, for std::visit.
template <class... F>
struct Overload : F... {
    using F::operator()...;
};
template <class... F>
Overload(F...) -> Overload<F...>;

}  // namespace cruscotto
