// SPDX-License-Identifier: Apache-2.0
#include "view/player_view.h"

#include <QAction>
#include <QApplication>
#include <QEvent>
#include <QHBoxLayout>
#include <QLabel>
#include <QPointer>
#include <QPushButton>
#include <algorithm>

#include "view/look.h"
#include "view/poster.h"

namespace ruedo {

PlaybackHost::PlaybackHost(bool sound_device)
    : strand(make_real_strand()),
      mixer(*strand, sound_device ? std::function<std::unique_ptr<SoundDevice>()>(make_server_device) : nullptr) {}

/// A plate on the picture with three groups of controls.
class PlayerView::Bar : public QWidget {
  public:
    Bar(const ruedo::Bar& slots_of, const ControlCalls& calls, QWidget* parent) : QWidget(parent) {
        auto* rows = new QVBoxLayout(this);
        rows->setContentsMargins(8, 2, 8, 2);
        rows->setSpacing(0);
        upper_ = new QHBoxLayout;
        row_ = new QHBoxLayout;
        for (auto* r : {upper_, row_}) r->setSpacing(2), rows->addLayout(r);
        add(slots_of.start, calls, row_);
        middle_at_ = row_->count();
        add(slots_of.middle, calls, row_);
        // Takes the room where the position is not shown; next to it, next to none.
        row_->addStretch(0);
        add(slots_of.end, calls, row_);
        set_narrow(false);
    }
    /// Where there is no room for the position beside the buttons, it has a row of its own above them.
    void set_width(int wide) {
        constexpr int least_position = 150, each = 46, margins = 16;
        auto there = [](auto& list) {
            return static_cast<int>(std::count_if(list.begin(), list.end(), [](auto* w) { return !w->isHidden(); }));
        };
        folded_ = false;
        for (auto* b : skips_) b->setVisible(!live_);
        for (auto* v : volumes_) v->set_compact(false);
        int needed = margins + each * (there(buttons_) + 2 * there(volumes_));
        set_narrow(!(positions_.empty() && strips_.empty()) && wide < needed + least_position);
        // Still too many: the sound's button goes first, then the skips; keys do the same as they did.
        if (wide >= needed) return;
        for (auto* v : volumes_) v->set_compact(true), needed -= each;
        folded_ = wide < needed;
        if (folded_)
            for (auto* b : skips_) b->hide();
    }
    bool narrow() const { return narrow_; }
    void show_context(const ControlContext& c) {
        for (auto* b : buttons_) b->show_context(c);
        for (auto* p : positions_) p->show_context(c), p->setVisible(!c.snapshot.live);
        live_ = c.snapshot.live;
        set_stretch();
        for (auto* b : skips_) b->setVisible(!c.snapshot.live && !folded_);
        for (auto* v : volumes_) v->show_context(c), v->setVisible(c.snapshot.has_audio);
        for (auto* s : strips_) s->show_context(c), s->setVisible(c.count > 1);
        bool choice = c.snapshot.choices && (std::count_if(c.snapshot.choices->begin(), c.snapshot.choices->end(),
                                                           [](auto& x) { return x.kind == Kind::audio; }) > 1 ||
                                             std::any_of(c.snapshot.choices->begin(), c.snapshot.choices->end(),
                                                         [](auto& x) { return x.kind == Kind::text; }));
        for (auto* b : tracks_) b->setVisible(choice);
        for (auto* b : turns_) b->setVisible(c.count > 1);
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(Qt::NoPen);
        g.setBrush(QColor(0xED, 0xE3, 0xCF, 238));
        g.drawRoundedRect(rect(), 4, 4);
    }

  private:
    void add(const std::vector<Control>& group, const ControlCalls& calls, QHBoxLayout* row) {
        for (auto control : group) {
            if (control == Control::position) {
                positions_.push_back(new PositionSlider(calls, this));
                row->addWidget(positions_.back(), 1);
            } else if (control == Control::volume) {
                volumes_.push_back(new VolumeControl(calls, this));
                row->addWidget(volumes_.back());
            } else if (control == Control::strip) {
                strips_.push_back(new PosterStrip(calls, this));
                row->addWidget(strips_.back(), 2);
            } else {
                buttons_.push_back(new ControlButton(control, calls, this));
                row->addWidget(buttons_.back());
                if (control == Control::back || control == Control::forward) skips_.push_back(buttons_.back());
                if (control == Control::tracks) tracks_.push_back(buttons_.back());
                if (control == Control::previous || control == Control::next) turns_.push_back(buttons_.back());
            }
        }
    }
    void set_narrow(bool narrow) {
        narrow_ = narrow;
        int at = middle_at_;
        auto move = [&](QWidget* w, int stretch) {
            row_->removeWidget(w), upper_->removeWidget(w);
            if (narrow_)
                upper_->addWidget(w, stretch);
            else
                row_->insertWidget(at++, w, stretch);
        };
        for (auto* p : positions_) move(p, 1);
        for (auto* s : strips_) move(s, 2);
        set_stretch();
    }
    void set_stretch() {
        // The stretch is the one item of the row that is no widget.
        for (int i = 0; i < row_->count(); ++i)
            if (row_->itemAt(i)->spacerItem())
                row_->setStretch(i, narrow_ || live_ || (positions_.empty() && strips_.empty()) ? 1 : 0);
    }
    std::vector<ControlButton*> buttons_, tracks_, turns_, skips_;
    std::vector<PositionSlider*> positions_;
    std::vector<PosterStrip*> strips_;
    QHBoxLayout *upper_ = nullptr, *row_ = nullptr;
    int middle_at_ = 0;
    bool narrow_ = false, live_ = false, folded_ = false;
    friend class PlayerView;
    std::vector<VolumeControl*> volumes_;
};

/// A still in the place of the picture.
class PlayerView::Poster : public QWidget {
  public:
    explicit Poster(QWidget* parent) : QWidget(parent) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Poster");
        hide();
    }
    void set(const QImage& image) {
        if (image.cacheKey() != image_.cacheKey()) image_ = image, update();
        if (isVisible() == image_.isNull()) setVisible(!image_.isNull());
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::SmoothPixmapTransform);
        g.fillRect(rect(), look::surround);
        auto size = QSizeF(image_.size()).scaled(QSizeF(this->size()), Qt::KeepAspectRatio);
        g.drawImage(QRectF(QPointF(width() - size.width(), height() - size.height()) / 2, size), image_);
    }

  private:
    QImage image_;
};

/// Turns only while something can still come.
class PlayerView::WaitingSign : public QWidget {
  public:
    explicit WaitingSign(QWidget* parent) : QWidget(parent) {
        setFixedSize(64, 64);
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Waiting");
        connect(&turn_, &QTimer::timeout, this, [this] { angle_ = (angle_ + 30) % 360, update(); });
        hide();
    }
    void set_waiting(bool waiting) {
        if (waiting == isVisible()) return;
        setVisible(waiting);
        if (waiting)
            turn_.start(90);
        else
            turn_.stop();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.translate(rect().center());
        g.rotate(angle_);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(Qt::NoPen);
        g.setBrush(QColor(0x17, 0x13, 0x1A, 190));
        g.drawEllipse(QPointF(0, 0), 31, 31);
        look::draw_glyph(g, QRectF(-22, -22, 44, 44), look::Glyph::broken, QColor(0xF7, 0xF1, 0xE5));
    }

  private:
    QTimer turn_;
    int angle_ = 0;
};

/// The large mark before the first start.
class PlayerView::StartMark : public QAbstractButton {
  public:
    explicit StartMark(QWidget* parent) : QAbstractButton(parent) {
        setFixedSize(88, 88);
        setAccessibleName("Play from the start");
        setToolTip("Play");
        setCursor(Qt::PointingHandCursor);
        setFocusPolicy(Qt::StrongFocus);
        hide();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(QPen(QColor(0xF7, 0xF1, 0xE5), hasFocus() ? 5 : 3));
        g.setBrush(QColor(0x8A, 0x24, 0x36, 235));
        g.drawEllipse(QRectF(rect()).adjusted(4, 4, -4, -4));
        look::draw_play(g, QRectF(rect()).adjusted(30, 28, -26, -28), QColor(0xF7, 0xF1, 0xE5));
    }
};

PlayerView::PlayerView(PlaybackHost& host, QWidget* parent) : QWidget(parent), host_(host) {
    surface_ = new PictureSurface(this);
    poster_ = new Poster(this);
    captions_ = new CaptionsLayer(this);
    renew();
    surface_->on_resized = [this] { controller_->refresh(); };
    waiting_ = new WaitingSign(this);
    start_mark_ = new StartMark(this);
    connect(start_mark_, &QAbstractButton::clicked, this, [this] { controller_->play(); });

    trouble_ = new QWidget(this);
    trouble_->setObjectName("trouble");
    auto* box = new QVBoxLayout(trouble_);
    auto* sentence = new QLabel(trouble_);
    auto* hint = new QLabel(trouble_);
    sentence->setObjectName("sentence"), hint->setObjectName("hint");
    for (auto* l : {sentence, hint}) {
        l->setWordWrap(true);
        l->setAlignment(Qt::AlignCenter);
        l->setTextInteractionFlags(Qt::TextSelectableByMouse);
    }
    sentence->setStyleSheet("color:#F1E8DA; font-size:16px;");
    hint->setStyleSheet("color:#C2B4A4;");
    auto* retry = new QPushButton("Try again", trouble_);
    retry->setStyleSheet(
        "QPushButton{background:#8A2436;color:#F7F1E5;border:2px solid #8A2436;padding:10px 22px;min-height:22px;} "
        "QPushButton:focus{border-color:#E2AC4C;}");
    connect(retry, &QPushButton::clicked, this, [this] { load(document_, index_, folder_); });
    box->addStretch(1), box->addWidget(sentence), box->addWidget(hint), box->addSpacing(8),
        box->addWidget(retry, 0, Qt::AlignHCenter), box->addStretch(1);
    trouble_->hide();

    connect(&follow_, &QTimer::timeout, this, [this] { follow(); });
    follow_.start(100);
    hide_.setSingleShot(true);
    connect(&hide_, &QTimer::timeout, this, [this] { follow(); });
    for (QWidget* w : {static_cast<QWidget*>(this), static_cast<QWidget*>(surface_)})
        w->installEventFilter(this), w->setMouseTracking(true);
    setAttribute(Qt::WA_AcceptTouchEvents);
    setFocusPolicy(Qt::ClickFocus);
    setMinimumSize(120, 80);

    add_action(Qt::CTRL | Qt::Key_Space, [this] { controller_->toggle(); });
    add_action(Qt::ALT | Qt::Key_Left, [this] { controller_->skip(-document_.skip); });
    add_action(Qt::ALT | Qt::Key_Right, [this] { controller_->skip(document_.skip); });
    add_action(Qt::ALT | Qt::SHIFT | Qt::Key_Left, [this] { controller_->step(-1); });
    add_action(Qt::ALT | Qt::SHIFT | Qt::Key_Right, [this] { controller_->step(1); });
    add_action(Qt::ALT | Qt::Key_Up, [this] { controller_->set_volume(std::min(1.0, snapshot().volume + 0.05)); });
    add_action(Qt::ALT | Qt::Key_Down, [this] { controller_->set_volume(std::max(0.0, snapshot().volume - 0.05)); });
    add_action(Qt::Key_F11, [this] { toggle_full_screen(); });
    add_action(Qt::Key_Escape, [this] {
        if (full_screen_) toggle_full_screen();
    });
    build_bar();
}

PlayerView::~PlayerView() {
    surface_->report_to(nullptr);
    surface_->on_resized = {};
    controller_.reset();
    queue_.reset();
}

void PlayerView::renew() {
    surface_->report_to(nullptr);
    controller_.reset();
    queue_.reset();
    queue_ = std::make_unique<PlayQueue>(
        host_.strand,
        [this](std::shared_ptr<PictureSink> sink) {
            return std::make_unique<Controller>(
                Controller::Env{make_real_strand(), &host_.mixer, &CodecRegistry::standard(), std::move(sink)});
        },
        surface_->sink());
    controller_ = queue_->current();
    born_ = monotonic_now();
    surface_->report_to(controller_.get());
    events_seen_ = 0;
    queue_->on_event([this](const Event&) {
        if (event_posted_.exchange(true)) return;
        QMetaObject::invokeMethod(
            this,
            [this] {
                event_posted_ = false;
                follow();
            },
            Qt::QueuedConnection);
    });
    queue_->on_change([this](std::size_t index) {
        QMetaObject::invokeMethod(this, [this, index] { turned(index); }, Qt::QueuedConnection);
    });
}

/// Another source plays, perhaps through another controller.
void PlayerView::turned(std::size_t index) {
    if (!queue_ || index >= document_.sources.size()) return;
    auto current = queue_->current();
    if (current != controller_) {
        surface_->report_to(nullptr);
        controller_ = std::move(current);
        surface_->report_to(controller_.get());
        born_ = queue_->made_at();
        events_seen_ = 0;
        controller_->refresh();
    }
    index_ = index;
    auto& source = document_.sources[index];
    surface_->set_fit(source.fit, source.align_x, source.align_y);
    if (on_turned) on_turned(index);
    follow();
}

namespace {
QString poster_file(const SourceSpec& source, const std::filesystem::path& folder) {
    if (source.poster.empty() || is_address(source.poster)) return {};
    return QString::fromStdString(resolve(source.poster, folder));
}
}  // namespace

void PlayerView::fill_queue() {
    std::vector<PlayQueue::Entry> entries;
    for (auto& s : document_.sources) {
        entries.push_back({resolve(s, folder_), open_options(document_, s, folder_)});
        if (document_.queue == Queue::repeat_one) entries.back().options.loop.kind = Loop::Kind::all;
    }
    static constexpr std::array modes{Repeat::off, Repeat::once, Repeat::one, Repeat::all};
    queue_->set(std::move(entries), modes.at(static_cast<std::size_t>(document_.queue)));
    for (auto* strip : bar_ ? bar_->strips_ : std::vector<PosterStrip*>{}) {
        std::vector<PosterStrip::Item> items;
        for (std::size_t i = 0; i < document_.sources.size(); ++i)
            items.push_back({text(document_.sources[i].name), posters_.contains(i) ? posters_[i] : QImage()});
        strip->set_items(std::move(items));
    }
    bool strips = bar_ && !bar_->strips_.empty();
    for (std::size_t i = 0; i < document_.sources.size(); ++i) {
        // A strip wants all of them; a service's poster is there long before its clip.
        if (posters_.contains(i) ||
            !(strips || document_.sources[i].file.starts_with("catalogue") || !document_.sources[i].poster.empty()))
            continue;
        posters_[i] = {};
        auto source = resolve(document_.sources[i], folder_);
        auto own = poster_file(document_.sources[i], folder_);
        auto work = [source, own](const std::atomic<bool>& cancel) {
            auto poster = own.isEmpty() ? QImage()
                                        : QImage(own).scaled(1920, 1280, Qt::KeepAspectRatio, Qt::SmoothTransformation);
            return poster.isNull() ? find_poster(source, 960, 640, &cancel) : poster;
        };
        desk_.ask("poster " + std::to_string(i), source + "|" + own.toStdString(), std::move(work),
                  [this, i, source](QImage poster) {
                      ++posters_made_;
                      if (!poster.isNull() && i < document_.sources.size() &&
                          resolve(document_.sources[i], folder_) == source)
                          set_poster(i, poster);
                  });
    }
}

/// Posters of sources that stay what they were are kept.
void PlayerView::forget_posters(const PlayerDocument& before, const std::filesystem::path& folder) {
    for (auto it = posters_.begin(); it != posters_.end();) {
        auto i = it->first;
        bool same = folder == folder_ && i < before.sources.size() && i < document_.sources.size() &&
                    before.sources[i].file == document_.sources[i].file &&
                    before.sources[i].poster == document_.sources[i].poster;
        if (!same) desk_.forget("poster " + std::to_string(i));
        it = same ? std::next(it) : posters_.erase(it);
    }
}

void PlayerView::set_poster(std::size_t index, const QImage& poster) {
    posters_[index] = poster;
    for (auto* strip : bar_ ? bar_->strips_ : std::vector<PosterStrip*>{}) strip->set_poster(index, poster);
}

void PlayerView::add_action(const QKeySequence& keys, std::function<void()> run) {
    auto* action = new QAction(this);
    action->setShortcut(keys);
    action->setShortcutContext(Qt::WindowShortcut);
    connect(action, &QAction::triggered, this, [this, run = std::move(run)] { wake(), run(); });
    addAction(action);
}

void PlayerView::set_standalone() {
    standalone_ = true;
    add_action(Qt::Key_Space, [this] { controller_->toggle(); });
}

void PlayerView::build_bar() {
    delete bar_;
    ControlCalls calls;
    calls.toggle = [this] { controller_->toggle(); };
    calls.skip = [this](Time by) { controller_->skip(by); };
    calls.seek = [this](Time to, SeekMode mode) { controller_->seek(to, mode); };
    calls.volume = [this](double v) {
        if (snapshot().muted) controller_->set_muted(false);
        controller_->set_volume(v);
    };
    calls.mute = [this](bool muted) { controller_->set_muted(muted); };
    calls.full_screen = [this] { toggle_full_screen(); };
    calls.sound_track = [this](std::uint64_t id) { controller_->choose_sound(id); };
    calls.text_track = [this](std::uint64_t id) { controller_->choose_text(id); };
    calls.turn = [this](bool forward) { forward ? queue_->next() : queue_->previous(); };
    calls.go = [this](std::size_t index) {
        if (index == index_) return;
        bool play = snapshot().state.intent == Intent::play;
        queue_->go(index);
        if (play) controller_->play();
        turned(index);
    };
    bar_ = new Bar(document_.bar, calls, this);
    bar_->installEventFilter(this);
    for (auto* child : bar_->findChildren<QWidget*>()) child->installEventFilter(this);
    bar_->show();
    resizeEvent(nullptr);
    follow();
}

void PlayerView::load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder) {
    bool other_bar = !(document.bar == document_.bar);
    // Trying again passes the document that is held already.
    auto before = document_;
    auto from = folder_;
    document_ = document, folder_ = folder;
    index_ = index;
    forget_posters(before, from);
    if (other_bar) build_bar();
    if (index >= document_.sources.size()) return;
    auto& source = document_.sources[index];
    surface_->set_surround(QColor(QString::fromStdString(document_.surround)));
    surface_->set_fit(source.fit, source.align_x, source.align_y);
    surface_->set_picture_size(0, 0);
    fill_queue();
    queue_->go(index);
    wake();
}

void PlayerView::apply(const PlayerDocument& document, std::size_t index) {
    if (index >= document.sources.size()) return;
    auto before = document_;
    bool other_bar = !(document.bar == document_.bar);
    document_ = document, index_ = index;
    if (other_bar) build_bar();
    auto& source = document_.sources[index];
    surface_->set_surround(QColor(QString::fromStdString(document_.surround)));
    surface_->set_fit(source.fit, source.align_x, source.align_y);
    auto entries_differ = before.sources.size() != document_.sources.size() || before.queue != document_.queue ||
                          !(before.sources == document_.sources);
    forget_posters(before, folder_);
    if (entries_differ || other_bar) fill_queue();
    controller_->set_loop(document_.queue == Queue::repeat_one ? Loop{Loop::Kind::all, {}, {}} : source.loop);
    if (before.volume != document_.volume) controller_->set_volume(document_.volume);
    controller_->choose_languages(source.sound_language, source.text_language);
    follow();
}

bool PlayerView::controls_shown() const { return bar_ && bar_->isVisible(); }

void PlayerView::wake() {
    hide_.start(static_cast<int>(document_.hide_after.ns / 1'000'000));
    if (cursor().shape() == Qt::BlankCursor) unsetCursor();
    follow();
}

/// Everything shown follows the snapshot; nothing here remembers what was pressed.
void PlayerView::follow() {
    if (!bar_) return;
    auto s = controller_->snapshot();
    if (s.display_width > 0) surface_->set_picture_size(s.display_width, s.display_height);
    ControlContext context{
        s, document_.skip, full_screen_, index_, document_.sources.size(), queue_->has_previous(), queue_->has_next()};
    bool failed = s.state.phase == Phase::failed;
    bool held = s.state.intent == Intent::hold;
    bool has_focus = bar_->isAncestorOf(focusWidget()) && bar_->isVisible() && held;
    bool shown =
        !failed && s.state.phase != Phase::empty && (hide_.isActive() || held || has_focus || bar_->underMouse());
    bar_->show_context(context);
    if (bar_->isVisible() != shown) bar_->setVisible(shown);
    if (!shown && full_screen_) setCursor(Qt::BlankCursor);
    // Until the first frame of what is being opened, its poster.
    // One that was chosen stands until it is started, in front of the first frame.
    bool chosen = index_ < document_.sources.size() && !document_.sources[index_].poster.empty() &&
                  s.state.phase == Phase::ready && s.position.ns == 0 && !s.state.seeking;
    bool before_first = posters_.contains(index_) && !posters_[index_].isNull() &&
                        ((s.state.phase == Phase::opening && !s.has_video) || chosen);
    poster_->set(before_first ? posters_[index_] : QImage());
    // The picture's shape is known only now, or has changed with the source.
    if (auto place = surface_->picture_rect().toRect(); place != laid_out_for_) resizeEvent(nullptr);
    captions_->follow(s, surface_->picture_rect(), shown ? height() - bar_->geometry().top() + 4 : 8);
    // A moment's wait is no news.
    bool waiting = s.motion == Motion::starved && !failed && monotonic_now() - s.since > 300_ms;
    waiting_->set_waiting(waiting);
    bool ready = s.state.phase == Phase::ready && s.has_video && !s.state.seeking && s.position.ns == 0;
    if (start_mark_->isVisible() != ready) start_mark_->setVisible(ready);
    if (failed && s.error) {
        trouble_->findChild<QLabel*>("sentence")->setText(QString::fromStdString(s.error->sentence));
        trouble_->findChild<QLabel*>("hint")->setText(QString::fromStdString(s.error->hint));
    }
    if (trouble_->isVisible() != failed) trouble_->setVisible(failed);
    if (on_event && s.events > events_seen_)
        for (auto& e : controller_->events(events_seen_)) events_seen_ = e.n, on_event(e);
}

void PlayerView::resizeEvent(QResizeEvent*) {
    surface_->setGeometry(rect());
    captions_->setGeometry(rect());
    poster_->setGeometry(rect());
    trouble_->setGeometry(rect().adjusted(width() / 10, 0, -width() / 10, 0));
    // What belongs to the picture keeps to it, not to the window.
    laid_out_for_ = surface_->picture_rect().toRect();
    auto p = laid_out_for_ & rect();
    waiting_->move(p.center() - QPoint(32, 32));
    if (!bar_) return;
    int wide = std::min(width() - 16, std::max(300, std::min(p.width() - 24, 900)));
    bar_->set_width(wide);
    int h = bar_->sizeHint().height();
    // On the picture where that leaves it to be seen, else right below it.
    bool below = p.height() < 2 * h + 110 && p.bottom() + 8 + h <= height();
    int top = below ? p.bottom() + 8 : std::min(height(), std::max(p.bottom(), height() / 2)) - 10 - h;
    bar_->setGeometry((width() - wide) / 2, top, wide, h);
    bar_->raise();
    // The mark stands in the middle of the picture, or as far above as the bar wants.
    start_mark_->move(p.center().x() - 44, std::max(0, std::min(p.center().y() - 44, bar_->geometry().top() - 94)));
}

bool PlayerView::eventFilter(QObject* watched, QEvent* event) {
    switch (event->type()) {
        case QEvent::MouseMove:
        case QEvent::Enter:
        case QEvent::KeyPress:
        case QEvent::TouchBegin:
        case QEvent::FocusIn:
        case QEvent::Wheel:
            wake();
            break;
        case QEvent::Resize:
            if (watched == surface_) resizeEvent(nullptr);
            break;
        case QEvent::MouseButtonDblClick:
            if (watched == surface_) toggle_full_screen();
            break;
        case QEvent::MouseButtonPress:
            wake();
            break;
        default:
            break;
    }
    return QWidget::eventFilter(watched, event);
}

void PlayerView::toggle_full_screen() {
    full_screen_ = !full_screen_;
    if (isWindow() && !home_) {
        setWindowState(full_screen_ ? windowState() | Qt::WindowFullScreen : windowState() & ~Qt::WindowFullScreen);
    } else if (auto* top = window(); standalone_ && !home_) {
        top->setWindowState(full_screen_ ? top->windowState() | Qt::WindowFullScreen
                                         : top->windowState() & ~Qt::WindowFullScreen);
    } else if (full_screen_) {
        // The same widget with the same controller, lifted out of its place and put back later.
        home_ = parentWidget();
        home_geometry_ = geometry();
        setParent(nullptr, Qt::Window);
        showFullScreen();
    } else {
        setParent(home_, Qt::Widget);
        setGeometry(home_geometry_);
        home_ = nullptr;
        show();
        if (on_full_screen_left) on_full_screen_left();
    }
    if (!full_screen_) unsetCursor();
    wake();
}

}  // namespace ruedo
