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
    /// What was pressed on the hoop of the app round it: a word that the host would say.
    std::function<void(std::string_view)> on_host;
    void follow_host(const HostLife& life);
    void follow(const Snapshot& snapshot, Time now);
    void note(const Event& event);
    void forget();
    QSize minimumSizeHint() const override { return {300, 258}; }
    /// How often each change of state was seen, for tests.
    int taken(Phase from, Phase to) const;
    QPushButton* hoop_button(std::string_view place) const;
    QPushButton* call_button(machine::Input call) const { return calls_.at(static_cast<std::size_t>(call)); }

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;

  private:
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
    void press_hoop(const HoopPlace& place);
    std::vector<HoopPlace> hoop_;
    QPushButton* sound_;
    HostLife life_;
    Snapshot snapshot_;
    Time now_{};
    Phase last_ = Phase::empty;
    std::map<std::pair<Phase, Phase>, int> chords_;
};

}  // namespace ruedo
