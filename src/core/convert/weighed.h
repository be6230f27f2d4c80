// SPDX-License-Identifier: Apache-2.0
// A file that comes to its place only where it has the weight it is to have.
#pragma once
#include <fmt/format.h>

#include "io/io.h"

namespace ruedo {

/// Bytes that a file may have, and what it came to.
struct Weight {
    std::uint64_t least, most;
    bool at_once = false;  ///< Too much is refused as soon as it is.
    std::uint64_t size = 0;
    bool refused = false;
};

struct Weighed final : ByteSink {
    Weighed(FileWriter f, Weight& w) : file(std::move(f)), weight(w) {}
    Status write(ByteView b) override {
        if (weight.at_once && file.position() + b.size() > weight.most) return refuse();
        return file.write(b);
    }
    Status write_at(std::uint64_t at, ByteView b) override { return file.write_at(at, b); }
    std::uint64_t position() const override { return file.position(); }
    Status insert_gap(std::uint64_t at, std::uint64_t extra, const Progress& told) override {
        return file.insert_gap(at, extra, told);
    }
    Status commit() override {
        weight.size = file.position();
        if (weight.size > weight.most || weight.size < weight.least) return refuse();
        return file.commit();
    }
    Status refuse() {
        weight.size = file.position(), weight.refused = true;
        return fail(ErrorCode::limit, fmt::format("It became {} bytes, and may be {}.", weight.size, weight.most),
                    "Allow more, or a smaller picture.");
    }
    FileWriter file;
    Weight& weight;
};

}  // namespace ruedo
