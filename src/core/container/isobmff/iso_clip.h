// SPDX-License-Identifier: Apache-2.0
// A clip of the ISO family while it is opened: what its moov says (moov.cpp), and what follows from it (isobmff.cpp).
#pragma once
#include <fmt/format.h>

#include <map>
#include <set>

#include "container/container.h"
#include "container/isobmff/fragments.h"

namespace ruedo::isobmff {

constexpr int depth_limit = 16;
constexpr std::size_t track_limit = 64;

struct Edit {
    std::uint64_t duration = 0;
    std::int64_t media_time = 0;
};

/// A track while its boxes are read.
struct Draft {
    Track track;
    TrackPlan plan;
    std::uint64_t media_duration = 0;
    std::vector<Edit> edits;
    bool enabled = true;
    std::string encrypted_as;
};

class IsoClip final : public Clip {
  public:
    explicit IsoClip(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline = {})
        : source_(std::move(source)), reader_(source_), timeline_(timeline) {}
    Status open();
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto& plan = plans_.at(id);
        if (fragments_) return make_fragment_reader(source_, plan, fragments_);
        return make_table_reader(source_, plan);
    }

  private:
    template <class F>
    Status children(const Box& parent, std::uint64_t from, F&& visit, int depth) {
        if (depth > depth_limit)
            return fail(ErrorCode::limit,
                        fmt::format("“{}” nests boxes more than {} deep.", source_->name(), depth_limit),
                        "The file is damaged; export it again.");
        for (auto at = from; at < parent.end;) {
            RUEDO_TRY(auto box, read_box(reader_, at, parent.end));
            if (!box) break;
            RUEDO_TRY_DO(visit(*box));
            at = box->end;
        }
        return {};
    }
    Result<Bytes> body(const Box& box, std::uint64_t limit = 1 << 20) {
        Bytes out;
        RUEDO_TRY_DO(reader_.read(box.body, std::min(box.size(), limit), out));
        return out;
    }
    Status read_moov(const Box& moov);
    Status read_trak(const Box& box, Draft& draft, int depth);
    Status read_tags(const Box& udta);
    Status read_table(const Box& box, Draft& draft);
    Status read_sample_entry(const Box& stsd, Draft& draft);
    Status read_video_entry(const Box& entry, Draft& draft);
    Status read_audio_entry(const Box& entry, Draft& draft);
    Status read_sidx(const Box& box, int depth);
    Status read_mfra();
    Status finish();
    void apply_edits(Draft& draft);
    Status settle_fragments();
    Status find_truncation();
    Status find_length();

    std::shared_ptr<ByteSource> source_;
    SourceReader reader_;
    std::optional<Timeline> timeline_;  ///< Of the stream this is a segment of.
    std::vector<Draft> drafts_;
    std::set<std::uint64_t> chapters_;  ///< Tracks that only name places of others (QTFF, “Chapter lists”).
    std::map<std::uint64_t, TrackPlan> plans_;
    std::shared_ptr<FragmentIndex> fragments_;
    std::map<std::uint64_t, TrackDefaults> defaults_;
    std::uint32_t movie_timescale_ = 1000;
    std::uint64_t movie_duration_ = 0, fragment_duration_ = 0, file_end_ = 0;
    std::uint64_t moov_end_ = 0;
    std::optional<Box> sidx_;
    bool fragmented_ = false, cut_short_ = false;
    int inner_indexes_ = 0;
    Time sidx_duration_{};
};

}  // namespace ruedo::isobmff
