// SPDX-License-Identifier: Apache-2.0
// Several sources one after the other: the next one is opened ahead and handed over inside the mixer; the old one
// lets go before the new one sounds.
#pragma once
#include <mutex>

#include "playback/playback.h"

namespace ruedo {

enum class Repeat { off, once, one, all };  ///< `off` stays at the end of each source; `once` goes through all.

class PlayQueue {
  public:
    struct Entry {
        std::string source;
        OpenOptions options;
    };
    /// Makes a controller that shows into `sink`.
    using Make = std::function<std::unique_ptr<Controller>(std::shared_ptr<FrameSink> sink)>;
    /// `strand` looks after the queue; it must be the controllers' own one in virtual time.
    PlayQueue(std::shared_ptr<Strand> strand, Make make, std::shared_ptr<FrameSink> sink);
    ~PlayQueue();
    PlayQueue(const PlayQueue&) = delete;
    PlayQueue& operator=(const PlayQueue&) = delete;

    /// Takes the list over; what plays goes on, and is taken to be entry `index`, or the one it was.
    void set(std::vector<Entry> entries, Repeat repeat, std::optional<std::size_t> index = {});
    /// Opens entry `index` in the place of what plays.
    void go(std::size_t index);
    /// The one after or before, playing on if the one before did; false at either end.
    bool next();
    bool previous();
    std::size_t index() const;
    bool has_next() const;
    bool has_previous() const;

    /// The one that plays. Another one takes its place at a hand-over.
    std::shared_ptr<Controller> current() const;
    /// Time at which `current` was made: its trace counts from there.
    Time made_at() const;
    /// After a hand-over, on the strand.
    void on_change(std::function<void(std::size_t index)> told);
    void on_event(std::function<void(const Event&)> told);

  private:
    class Gate;
    struct Player {
        std::shared_ptr<Controller> controller;
        std::shared_ptr<Gate> gate;
        Time made{};
        std::size_t index = 0;
        bool armed = false;
    };
    struct State;
    std::shared_ptr<State> state_;
};

}  // namespace ruedo
