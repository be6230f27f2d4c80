// SPDX-License-Identifier: GPL-3.0-or-later
// The ring: the live dial of the controller's life.
#pragma once
#include <QPushButton>
#include <QWidget>
#include <array>
#include <map>

#include "playback/playback.h"
#include "player/host_life.h"

namespace ruedo {

class Ring : public QWidget {
  public:
    explicit Ring(QWidget* parent = nullptr);
    /// The controller whose life it shows; calls pressed on the rim go to it.
    std::function<void(machine::Input)> on_call;
    std::function<void(Time)> on_seek;  ///< To a place that was chosen.
    std::function<void(int)> on_step;   ///< By so many pictures.
    /// How one gets into a state and out of it, in words.
    static QString ways(Phase phase);
    QPushButton* state_button(Phase phase) const;
    /// What was pressed on the hoop of the app round it: a word that the host would say.
    std::function<void(std::string_view)> on_host;
    void follow_host(const HostLife& life);
    /// As it was then: the changes of state are those up to that moment. With nothing, what is now again.
    struct Then {
        Snapshot snapshot;
        HostLife life;
        Time now{};  ///< On the clock that `Snapshot::since` counts by.
        Time wall{};
        std::vector<std::pair<Phase, Phase>> changes;
    };
    void show_then(std::optional<Then> then);
    void follow(const Snapshot& snapshot, Time now);
    void note(const Event& event);
    /// The state of that name.
    static std::optional<Phase> phase_of(std::string_view name);
    void forget();
    QSize minimumSizeHint() const override { return {300, 258}; }
    const Snapshot& shown() const { return snapshot_; }
    /// How often each change of state was seen, for tests.
    int taken(Phase from, Phase to) const;
    QPushButton* hoop_button(std::string_view place) const;
    QPushButton* call_button(machine::Input call) const { return calls_.at(static_cast<std::size_t>(call)); }

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;

  private:
    void show(const Snapshot& snapshot, Time now);
    QPointF place(Phase phase, double radius) const;
    QPointF centre() const;
    double radius() const;
    std::array<QPushButton*, machine::call_count> calls_{};
    /// A place on the hoop: the row it stands for, or none for being in front.
    struct HoopPlace {
        std::optional<std::size_t> row;
        double degrees;  ///< Clockwise from the right.
        QPushButton* button;
    };
    QPointF hoop_point(double degrees) const;
    static QString hoop_name(const HoopPlace& place);
    std::optional<QRectF> room_for(const QString& name, QPointF mark, const QFontMetrics& metrics) const;
    void press_hoop(const HoopPlace& place);
    std::vector<HoopPlace> hoop_;
    std::array<QPushButton*, machine::phase_count> states_{};
    std::optional<Phase> told_;  ///< The state whose ways are shown.
    void choose_seek();
    void choose_step();
    QPushButton* audio_;
    HostLife life_;
    Snapshot snapshot_;
    Time now_{};
    Phase last_ = Phase::empty;
    std::map<std::pair<Phase, Phase>, int> chords_;
    std::optional<Then> then_;
};

}  // namespace ruedo
