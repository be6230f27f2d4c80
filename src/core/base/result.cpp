// SPDX-License-Identifier: Apache-2.0
#include "base/result.h"

#include <fmt/format.h>

#include <array>
#include <cerrno>
#include <cstring>

namespace ruedo {

std::string_view error_code_name(ErrorCode code) {
    static constexpr std::array<std::string_view, 22> names{"not-found",
                                                            "not-media",
                                                            "empty",
                                                            "truncated",
                                                            "malformed",
                                                            "limit",
                                                            "encrypted",
                                                            "codec-missing",
                                                            "depth-unsupported",
                                                            "chroma-unsupported",
                                                            "interlaced-unsupported",
                                                            "io",
                                                            "disk-full",
                                                            "read-only",
                                                            "exists",
                                                            "timeout",
                                                            "network",
                                                            "refused",
                                                            "too-new",
                                                            "cancelled",
                                                            "usage",
                                                            "internal"};
    return names.at(static_cast<std::size_t>(code));
}

Error errno_error(int number, std::string_view what) {
    auto make = [&](ErrorCode code, std::string_view why, const char* hint) {
        return Error{code, fmt::format("{} failed: {}.", what, why), hint};
    };
    switch (number) {
        case ENOTDIR:
            return make(ErrorCode::not_found, "a part of the path is a file, not a folder",
                        "Check the name and the folder.");
        case ENOENT:
            return make(ErrorCode::not_found, "there is no such file", "Check the name and the folder.");
        case EACCES:
        case EPERM:
            return make(ErrorCode::refused, "permission is denied", "Check who may read or write it.");
        case EROFS:
            return make(ErrorCode::read_only, "the disk is read-only", "Choose a folder that can be written to.");
        case ENOSPC:
        case EDQUOT:
            return make(ErrorCode::disk_full, "the disk is full", "Make room or choose another disk.");
        case EEXIST:
        case ENOTEMPTY:
            return make(ErrorCode::exists, "it is already there", "Choose another name, or remove it first.");
        case EISDIR:
            return make(ErrorCode::not_media, "it is a folder, not a file", "Choose a file inside it.");
        default:
            return make(ErrorCode::io, std::strerror(number), "Try again, and check the disk if it happens twice.");
    }
}

}  // namespace ruedo
