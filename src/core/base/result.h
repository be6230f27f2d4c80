// SPDX-License-Identifier: Apache-2.0
// Errors as values: a stable code, one plain sentence for the user, and a hint of what to do.
#pragma once
#include <expected>
#include <string>
#include <string_view>
#include <utility>

namespace ruedo {

/// The closed list of error codes; `error_code_name` gives the spelling used in every document.
enum class ErrorCode {
    not_found,
    not_media,
    empty,
    truncated,
    malformed,
    limit,
    encrypted,
    codec_missing,
    depth_unsupported,
    chroma_unsupported,
    interlaced_unsupported,
    io,
    disk_full,
    read_only,
    exists,
    timeout,
    network,
    refused,
    too_new,
    cancelled,
    usage,
    internal
};
std::string_view error_code_name(ErrorCode code);

struct Error {
    ErrorCode code = ErrorCode::internal;
    std::string sentence;  ///< One plain sentence, naming its subject (file, track, offset).
    std::string hint;      ///< What to do about it.
};

template <class T>
using Result = std::expected<T, Error>;
using Status = Result<void>;

inline std::unexpected<Error> fail(ErrorCode code, std::string sentence, std::string hint = {}) {
    return std::unexpected(Error{code, std::move(sentence), std::move(hint)});
}
/// An error from `errno`, as it happened to `what` ("Opening demo.webm").
Error errno_error(int number, std::string_view what);

#define RUEDO_JOIN_(a, b) a##b
#define RUEDO_JOIN(a, b) RUEDO_JOIN_(a, b)
#define RUEDO_TRY_(tmp, decl, expr)                           \
    auto tmp = (expr);                                        \
    if (!tmp) return std::unexpected(std::move(tmp).error()); \
    decl = std::move(*tmp)
/// `RUEDO_TRY(auto x, f());` takes the value, or returns the error from the enclosing function.
#define RUEDO_TRY(decl, expr) RUEDO_TRY_(RUEDO_JOIN(try_, __LINE__), decl, expr)
/// The same for a `Status`.
#define RUEDO_TRY_DO(expr)                                                                 \
    do {                                                                                   \
        if (auto tried = (expr); !tried) return std::unexpected(std::move(tried).error()); \
    } while (false)

}  // namespace ruedo
