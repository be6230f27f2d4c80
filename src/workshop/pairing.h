// SPDX-License-Identifier: GPL-3.0-or-later
// What plays a clip and what was made of it, locked to each other: pictures in pairs, the sound of either.
#pragma once
#include <QImage>
#include <QObject>
#include <condition_variable>
#include <deque>
#include <thread>

#include "convert/pairs.h"
#include "view/player_view.h"

namespace ruedo {

/// Used on the window's thread, where what it calls comes too. Decoding goes on beside it.
class Pairing : public QObject {
  public:
    struct Subject {
        std::string before, after;  ///< `after` is a part that begins at `from` ...
        Time from{}, to{};
        Time after_from{};  ///< ... and this far into itself; it is not 0 where both are the same clip.
        bool pictures = true;
        bool operator==(const Subject&) const = default;
    };
    struct FramePair {
        Time at{};
        QImage before, after, difference;  ///< The last only where it is asked for.
    };
    enum class AudibleSide { before, after, neither };
    explicit Pairing(PlaybackHost& host, QObject* parent = nullptr);
    ~Pairing() override;
    void open(std::optional<Subject> subject);
    /// What stands there, held.
    void show(Time at);
    /// Pictures on or back, held.
    void step(int pictures);
    /// Round and round, until `hold`.
    void play();
    void hold();
    bool playing() const { return playing_; }
    Time place() const { return place_; }
    void hear(AudibleSide heard);
    AudibleSide heard() const { return heard_; }
    /// The louder one is turned down to the other: by so many decibels, once both were measured.
    double turned_down(AudibleSide which) const { return which == AudibleSide::after ? down_after_ : down_before_; }
    void show_difference(bool shown);
    /// How many pairs came, and how many were left out because they were late while it played.
    std::uint64_t shown_pairs() const { return shown_; }
    std::uint64_t late_pairs() const { return late_; }
    std::function<void(const FramePair&)> on_shown;
    std::function<void(Time)> on_place;  ///< Where there are no pictures, while it sounds.
    std::function<void(const Error&)> on_trouble;
    std::function<void(bool)> on_playing;

  private:
    class Work;
    template <class F>
    void post(F f);
    PlaybackHost& host_;
    std::unique_ptr<Work> work_;
    bool playing_ = false;
    AudibleSide heard_ = AudibleSide::neither;
    Time place_{};
    std::uint64_t opened_ = 0;  ///< Counts subjects.
    double down_before_ = 0, down_after_ = 0;
    std::atomic<std::uint64_t> shown_ = 0, late_ = 0;
};

}  // namespace ruedo
