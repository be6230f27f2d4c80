// SPDX-License-Identifier: Apache-2.0
// Pictures that AVI keeps in the order of decoding, with the times at which they are shown. A chunk of MPEG-4 Visual
// may hold two pictures, for which an empty one follows later (a “packed” stream); they are taken apart here.
#include <algorithm>
#include <deque>

#include "container/riff/streams.h"
#include "media/mpeg_video.h"
#include "media/picture_order.h"

namespace ruedo::riff {
namespace {

class OrderedReader final : public TrackReader {
  public:
    OrderedReader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream)
        : reader_(source), heads_(std::move(source)), stream_(std::move(stream)), order_(stream_->track) {
        if (auto config = parse_mpeg4_config(stream_->track.config)) time_bits_ = config->time_bits;
    }
    Result<bool> next(PacketHead& head) override {
        std::optional<std::int64_t> place;
        while (!(place = places_.place(0, ended_)) && !ended_) RUEDO_TRY_DO(fetch());
        if (!place) return false;
        auto& unit = ahead_.front();
        head = {};
        head.pts = stream_->time_of(static_cast<std::size_t>(*place));
        head.duration = stream_->time_of(static_cast<std::size_t>(places_.after(0))) - head.pts;
        head.keyframe = unit.key;
        head.size = unit.size;
        current_ = unit;
        ahead_.pop_front();
        places_.take();
        return true;
    }
    Status read(Bytes& out) override {
        RUEDO_TRY_DO(reader_.read(current_.at, current_.size, out));
        if (stream_->annex_b) {
            Bytes units;
            from_annex_b(out, units);
            out.swap(units);
        } else if (stream_->track.codec == Codec::mpeg4) {
            unmark(out);
        }
        return {};
    }
    Status seek(Time t) override {
        RUEDO_TRY_DO(stream_->reach(t));
        // A key picture may be shown later than its chunk stands; then it is the one before it that leads to `t`.
        for (auto chunk = stream_->key_at(t);;) {
            begin(chunk);
            PacketHead head;
            RUEDO_TRY(bool more, next(head));
            bool late = more && head.pts > t && chunk > 0;
            begin(chunk);
            if (!late) return {};
            auto before = stream_->key_at(stream_->time_of(chunk) - 1_ns);
            if (before >= chunk) return {};
            chunk = before;
        }
    }

  private:
    struct Unit {
        std::uint64_t at = 0;
        std::uint32_t size = 0;
        bool key = false;
    };
    void begin(std::size_t chunk) {
        next_ = chunk, surplus_ = 0, ended_ = false;
        ahead_.clear();
        places_.reset();
        order_.reset();
    }
    /// Takes the next chunk that is not empty.
    Status fetch() {
        for (;; ++next_) {
            if (next_ >= stream_->entries.size()) {
                RUEDO_TRY(bool more, stream_->more());
                if (!more) {
                    ended_ = true;
                    return {};
                }
            }
            if (stream_->entries[next_].size > 0) break;
        }
        auto entry = stream_->entries[next_];
        auto place = static_cast<std::int64_t>(next_);
        if (stream_->track.codec == Codec::mpeg4) {
            RUEDO_TRY_DO(fetch_mpeg4(entry, place));
        } else {
            // The first slice nearly always stands in the first few hundred bytes.
            RUEDO_TRY(auto view, heads_.view(entry.at, std::min<std::size_t>(entry.size, 4096)));
            add({entry.at, entry.size, entry.key}, order_.mark(view), place);
        }
        ++next_;
        return {};
    }
    Status fetch_mpeg4(const Entry& entry, std::int64_t place) {
        RUEDO_TRY_DO(heads_.read(entry.at, entry.size, chunk_));
        auto pictures = split_mpeg4(chunk_, time_bits_);
        if (pictures.size() == 1 && !pictures[0].coded && surplus_ > 0) {
            --surplus_;  // it stands for the second picture of a chunk before
            return {};
        }
        if (pictures.empty()) pictures.push_back({0, chunk_.size(), 'P', true});
        for (std::size_t i = 0; i < pictures.size(); ++i) {
            auto& p = pictures[i];
            if (i > 0) ++surplus_;
            auto bytes = ByteView(chunk_).subspan(p.begin, p.size);
            add({entry.at + p.begin, static_cast<std::uint32_t>(p.size), i == 0 ? entry.key : p.type == 'I'},
                order_.mark(bytes), place + surplus_);
        }
        return {};
    }
    void add(Unit unit, const PictureOrder::Mark& mark, std::int64_t place) {
        ahead_.push_back(unit);
        places_.add(mark, place);
    }
    /// A packed stream says of itself that it is one, at the end of its user data; what is handed on no longer is.
    static void unmark(Bytes& data) {
        for (auto at = next_start_code(data, 0); at; at = next_start_code(data, *at + 4)) {
            if (data[*at + 3] != 0xB2) continue;
            auto end = next_start_code(data, *at + 4).value_or(data.size());
            if (end - *at < 9 || std::memcmp(data.data() + *at + 4, "DivX", 4) != 0) continue;
            for (auto i = *at + 8; i < end; ++i)
                if (data[i] == 'p') data[i] = ' ';
        }
    }

    SourceReader reader_, heads_;
    std::shared_ptr<Stream> stream_;
    PictureOrder order_;
    DisplayOrder places_;
    std::deque<Unit> ahead_;
    Unit current_;
    Bytes chunk_;
    std::size_t next_ = 0;
    std::int64_t surplus_ = 0;
    unsigned time_bits_ = 1;
    bool ended_ = false;
};

}  // namespace

std::unique_ptr<TrackReader> ordered_reader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream) {
    return std::make_unique<OrderedReader>(std::move(source), std::move(stream));
}

}  // namespace ruedo::riff
