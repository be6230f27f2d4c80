// SPDX-License-Identifier: Apache-2.0
// Decoding at two places of a clip at once: pictures depend on those before them only as far back as their keyframe.
#pragma once
#include <array>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <thread>

#include "codec/codec.h"

namespace ruedo {

/// Reads the pictures of a track from where `first` is, in turn: one stretch, from a keyframe on and half a second to
/// 20 seconds long, is decoded while those of the one before it are taken. What lies ready is bounded; while it is less
/// than a stretch, only so much of the next one is done beforehand. Where a stretch does not begin as it should, since
/// its keyframe is damaged or is none, `first` or `second` goes on alone, as one that reads all in order would. One
/// thread takes the pictures.
class Stretches {
  public:
    /// `second` reads the same track (see `PictureReader::beside`); about `most` pictures lie ready.
    Stretches(PictureReader& first, std::unique_ptr<PictureReader> second, std::size_t most);
    /// Waits for what is being decoded.
    ~Stretches();
    Stretches(const Stretches&) = delete;
    Stretches& operator=(const Stretches&) = delete;
    /// As `PictureReader::next`; after an error or the end it gives the end.
    Result<std::optional<Picture>> next();
    /// Why the file gave less than it held when it was opened, if it did; once `next` has given nothing.
    const std::optional<Error>& cut() const { return lanes_[turn_ % 2].reader->cut(); }

  private:
    struct Ready {
        Result<std::optional<Picture>> picture;  ///< Nothing at the end of each stretch.
        bool goes_on = true;
        bool is_picture() const { return picture && *picture; }
    };
    /// One reader and every other stretch.
    struct Lane {
        PictureReader* reader = nullptr;
        std::deque<Ready> ready;
        std::size_t begun = 0;  ///< The last stretch that began as it should.
        bool done = false;      ///< No other begins here any more.
        std::thread thread;
    };
    void read(std::size_t lane);
    bool read_stretch(std::size_t number, Time begin, std::optional<Time> end);
    bool begins_well(std::size_t number, Time begin);
    bool next_begins_well(std::size_t number);
    bool put(std::size_t number, Ready ready);
    static constexpr std::size_t few_ = 4;  ///< So many may lie ready in any case of the stretch that is being taken.
    std::unique_ptr<PictureReader> second_;
    const std::size_t most_;
    const Time from_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::array<Lane, 2> lanes_;
    std::size_t turn_ = 0, held_ = 0;  ///< The stretch that is being taken; how many lie ready.
    std::atomic<bool> stop_ = false;
    bool ended_ = false;
};

}  // namespace ruedo
