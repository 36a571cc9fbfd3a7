#pragma once

namespace cruscotto::test {

/// Of this build. In a source of their own, so that nothing else that is compiled depends on where the sources lie: a
/// clean clone in another folder finds all the rest in ccache.
extern const char* const sourceFolder;
extern const char* const program;  ///< the path of `cruscotto`

}  // namespace cruscotto::test
