// SPDX-License-Identifier: Apache-2.0
#include "base/result.h"

#include <fmt/format.h>

#include <array>
#include <cerrno>
#include <cstring>

namespace ruedo {

std::string_view code_name(Code code) {
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
    auto make = [&](Code code, std::string_view why, const char* hint) {
        return Error{code, fmt::format("{} failed: {}.", what, why), hint};
    };
    switch (number) {
        case ENOTDIR:
            return make(Code::not_found, "a part of the path is a file, not a folder",
                        "Check the name and the folder.");
        case ENOENT:
            return make(Code::not_found, "there is no such file", "Check the name and the folder.");
        case EACCES:
        case EPERM:
            return make(Code::refused, "permission is denied", "Check who may read or write it.");
        case EROFS:
            return make(Code::read_only, "the disk is read-only", "Choose a folder that can be written to.");
        case ENOSPC:
        case EDQUOT:
            return make(Code::disk_full, "the disk is full", "Make room or choose another disk.");
        case EEXIST:
        case ENOTEMPTY:
            return make(Code::exists, "it is already there", "Choose another name, or remove it first.");
        case EISDIR:
            return make(Code::not_media, "it is a folder, not a file", "Choose a file inside it.");
        default:
            return make(Code::io, std::strerror(number), "Try again, and check the disk if it happens twice.");
    }
}

}  // namespace ruedo
