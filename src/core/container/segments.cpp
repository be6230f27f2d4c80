// SPDX-License-Identifier: Apache-2.0
#include "container/segments.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {

SegmentSink::SegmentSink(std::filesystem::path folder, std::string form,
                         std::function<Bytes(std::uint64_t, Bytes)> seal)
    : folder_(std::move(folder)), form_(std::move(form)), seal_(std::move(seal)), fragments_(form_ == "m4s") {}

Status SegmentSink::write(ByteView bytes) {
    position_ += bytes.size();
    auto type = fragments_ && bytes.size() >= 8 ? be32(bytes.data() + 4) : 0;
    if (type == fourcc("mfra")) dropping_ = true;  // an index of places in one file, of which there is none
    if (dropping_) return {};
    if (type == fourcc("moof")) {
        RUEDO_TRY_DO(flush());
        begun_ = true;
        held_.assign(bytes.begin(), bytes.end());
        made_.push_back({fmt::format("{}.{}", ++number_, form_), 0, 0, {}, {}});
        return {};
    }
    auto& to = fragments_ && !begun_ ? head_ : held_;
    to.insert(to.end(), bytes.begin(), bytes.end());
    // Behind the head of the data the first sample comes in one piece.
    if (fragments_ && begun_ && made_.back().key_bytes == 0) made_.back().key_bytes = held_.size();
    return {};
}
Status SegmentSink::write_at(std::uint64_t offset, ByteView bytes) {
    if (offset + bytes.size() > head_.size())
        return fail(ErrorCode::internal, "What lies in a segment is written over after it was done with.");
    std::copy(bytes.begin(), bytes.end(), head_.begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
}
Status SegmentSink::insert_gap(std::uint64_t, std::uint64_t, const Progress&) {
    return fail(ErrorCode::internal, "Segments have no room to be made in them.");
}
Status SegmentSink::cut(Time start) {
    RUEDO_TRY_DO(flush());
    made_.push_back({fmt::format("{}.{}", ++number_, form_), 0, 0, start, {}});
    begun_ = true;
    return {};
}
void SegmentSink::key_ends() {
    if (!made_.empty() && made_.back().key_bytes == 0) made_.back().key_bytes = held_.size();
}
Status SegmentSink::flush() {
    if (!begun_ || made_.empty() || held_.empty()) return {};
    auto bytes = std::exchange(held_, {});
    if (seal_) bytes = seal_(number_, std::move(bytes));
    made_.back().bytes = bytes.size();
    return write_file(folder_ / made_.back().file, bytes, Replace::nothing);
}
Status SegmentSink::commit() {
    RUEDO_TRY_DO(flush());
    return fragments_ ? write_file(folder_ / "init.mp4", head_, Replace::nothing) : Status{};
}

}  // namespace ruedo
