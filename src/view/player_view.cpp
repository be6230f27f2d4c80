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
#include "view/player_parts.h"
#include "view/poster.h"

namespace ruedo {

PlaybackHost::PlaybackHost(bool sound_device)
    : strand(make_real_strand()),
      mixer(*strand, sound_device ? std::function<std::unique_ptr<SoundDevice>()>(make_server_device) : nullptr) {}

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
    action->setShortcutContext(everywhere_ ? Qt::WindowShortcut : Qt::WidgetWithChildrenShortcut);
    connect(action, &QAction::triggered, this, [this, run = std::move(run)] { wake(), run(); });
    addAction(action);
}

void PlayerView::take_keys_everywhere() {
    everywhere_ = true;
    for (auto* action : actions()) action->setShortcutContext(Qt::WindowShortcut);
    // Where another player of the window has the focus, the keys are its own.
    connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
        auto* owner = now;
        while (owner && !dynamic_cast<PlayerView*>(owner)) owner = owner->parentWidget();
        for (auto* action : actions()) action->setEnabled(!owner || owner == this);
    });
}

void PlayerView::set_standalone() {
    standalone_ = true;
    take_keys_everywhere();
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
