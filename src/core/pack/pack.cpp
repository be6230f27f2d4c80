// SPDX-License-Identifier: Apache-2.0
#include "pack/pack.h"

#include "stream/stream.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "capture/camera.h"
#include "container/container.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {

/// A folder under a temporary name that becomes `out` whole, or goes away.
class Staging {
  public:
    static Result<Staging> make(const fs::path& out, bool replace) {
        std::error_code ec;
        if (out.empty())
            return fail(ErrorCode::usage, "The folder to make has no name.", "Name one that does not exist yet.");
        auto target = fs::absolute(out, ec).lexically_normal();
        if (ec) return std::unexpected(errno_error(ec.value(), "Finding the working folder"));
        if (!target.has_filename()) target = target.parent_path();
        RUEDO_TRY_DO(look_at_folder_place(target, replace, "player.json"));
        if (!fs::is_directory(target.parent_path(), ec))
            return fail(ErrorCode::not_found,
                        fmt::format("There is no folder “{}” to pack into.", target.parent_path().string()),
                        "Make it first.");
        Staging s;
        s.target_ = target, s.replace_ = replace;
        clear_remains(target.parent_path());
        s.folder_ = target.parent_path() / temporary_name(target.filename().string());
        if (::mkdir(s.folder_.c_str(), 0755) != 0)
            return std::unexpected(errno_error(errno, fmt::format("Making “{}”", target.string())));
        return s;
    }
    Staging(Staging&& o) noexcept
        : target_(std::move(o.target_)), folder_(std::exchange(o.folder_, {})), replace_(o.replace_) {}
    Staging& operator=(Staging&&) = delete;
    ~Staging() {
        std::error_code ec;
        if (!folder_.empty()) fs::remove_all(folder_, ec);
    }
    const fs::path& folder() const { return folder_; }
    const fs::path& target() const { return target_; }
    Status commit() {
        RUEDO_TRY_DO(move_folder_into_place(folder_, target_, replace_));
        folder_.clear();
        return {};
    }

  private:
    Staging() = default;
    fs::path target_, folder_;
    bool replace_ = false;
};

std::string combine_licences(const std::vector<CodecRegistry::Found>& modules) {
    std::set<std::string> all{"Apache-2.0"};
    for (auto& m : modules) {
        for (std::string_view rest = m.module->licence; !rest.empty();) {
            auto end = std::min(rest.find(" AND "), rest.size());
            std::string licence(rest.substr(0, end));
            rest.remove_prefix(std::min(rest.size(), end + 5));
            // Apache-2.0 can be joined with version 3 of the GPL only.
            all.insert(licence == "GPL-2.0-or-later" ? "GPL-3.0-or-later" : licence);
        }
    }
    std::string text;
    for (auto& l : all) text += (text.empty() ? "" : " AND ") + l;
    return text;
}

std::string notice(const PlayerDocument& d, const Needs& needs) {
    auto text = fmt::format(
        "{}\n{}\n\nLicence of the whole as packed: {}\n\nThe executable is the Ruedo player, Apache-2.0.\n"
        "It uses the system's Qt 6 (LGPL-3.0-only) and C++ libraries, which are not part of this folder.\n",
        d.app_name, std::string(d.app_name.size(), '='), needs.licence);
    text += needs.modules.empty() ? "\nNo codec adapters are needed.\n"
                                  : "\nCodec adapters in lib/, each with the library it uses from the system:\n\n";
    for (auto& m : needs.modules)
        text += fmt::format("  {:24} {:26} {:18} Debian package {}\n", m.file.filename().string(), m.module->library,
                            m.module->licence, m.module->package);
    bool gpl = std::any_of(needs.modules.begin(), needs.modules.end(),
                           [](auto& m) { return std::string_view(m.module->licence).starts_with("GPL"); });
    if (gpl)
        text +=
            "\nThe GPL follows from the AAC sound in the media. Converting that sound to Opus leaves the adapter "
            "out.\n";
    text += "\nThe media in media/ are the app's own and are not covered by these licences.\n";
    return text;
}

/// A lamp with its beam: the demo's colours, for any app without an icon of its own.
RgbImage draw_icon(std::string_view name) {
    constexpr int n = 256;
    RgbImage icon{n, n, Pixels(n * n * 4)};
    // The tint follows the name, so that two apps can be told apart.
    unsigned hash = 7;
    for (unsigned char c : name) hash = hash * 31 + c;
    double angle = static_cast<double>(hash % 360) / 180.0 * 3.14159265;
    for (int y = 0; y < n; ++y)
        for (int x = 0; x < n; ++x) {
            double dx = x - n / 2.0 + 0.5, dy = y - n / 2.0 + 0.5, r = std::hypot(dx, dy);
            double turn = std::remainder(std::atan2(dy, dx) - angle, 6.2831853);
            std::array<std::uint8_t, 3> c{0x36, 0x24, 0x8A};  // wine, as B G R
            if (r > 118)
                c = {0xE5, 0xF1, 0xF7};
            else if (r > 96)
                c = {0xC2, 0xD0, 0xA6};
            else if (r < 30)
                c = {0xE5, 0xF1, 0xF7};
            else if (std::abs(turn) < 0.42)
                c = {0x1D, 0x84, 0xC4};
            auto* p = &icon.pixels[static_cast<std::size_t>(y * n + x) * 4];
            p[0] = c[0], p[1] = c[1], p[2] = c[2], p[3] = 255;
        }
    return icon;
}

}  // namespace

namespace {

/// The facts of a source; over a network for a few seconds at most.
Result<ClipInfo> ask_within(const InfoOf& ask, const std::string& path) {
    ReadScope scope(nullptr, false, is_address(path) ? monotonic_now() + 8_s : Time::max());
    return ask(path);
}
/// What a stream on disk is made of; nothing for any other file.
Result<std::vector<fs::path>> parts_of(const fs::path& path) {
    RUEDO_TRY(auto source, open_file(path));
    Bytes head(512);
    RUEDO_TRY(auto got, source->read_at(0, head));
    if (!stream::is_stream(ByteView(head).first(got))) return std::vector<fs::path>{};
    return stream::files_of(path.lexically_normal());
}

}  // namespace

Result<Needs> needs_of(const PlayerDocument& asked, const fs::path& folder, CodecRegistry& codecs, const InfoOf& ask) {
    auto document = for_target(asked, folder);
    Needs needs;
    auto note_outside = [&](const std::string& path) {
        if (is_address(path) || lies_inside(path, folder)) return;
        if (std::find(needs.outside.begin(), needs.outside.end(), path) != needs.outside.end()) return;
        needs.outside.emplace_back(path);
        needs.findings.push_back({"outside",
                                  fmt::format("“{}” lies outside the project’s folder and goes into the app.", path),
                                  "Copy it into the project’s folder, or take it out if it is not meant."});
    };
    std::set<fs::path> files, seen;
    std::error_code ec;
    auto beside = [&](const std::string& path) {
        note_outside(path);
        if (seen.insert(fs::weakly_canonical(path, ec)).second) needs.media.emplace_back(path, fs::file_size(path, ec));
    };
    for (auto& source : document.sources) {
        auto path = resolve(source, folder);
        if (!source.poster.empty())
            if (auto poster = resolve(source.poster, folder); !is_address(poster)) {
                RUEDO_TRY_DO(check_poster(poster));
                beside(poster);
            }
        for (auto& file : source.captions)
            if (auto captions = resolve(file, folder); !is_address(captions)) {
                RUEDO_TRY(auto cues, load_captions(captions));
                beside(captions);
            }
        if (is_camera(path)) {
            // The device need not be there when the app is made; either form of its pictures may come.
            for (auto codec : {Codec::raw, Codec::mjpeg})
                if (auto module = codecs.decoder_module(codec); module && files.insert(module->file).second)
                    needs.modules.push_back(*module);
            continue;
        }
        auto asked_of = ask_within(ask, path);
        if (!asked_of && is_address(path) && asked_of.error().code != ErrorCode::cancelled) {
            // It is fetched by the app, so that it need not be reachable now; any of the decoders may be needed.
            for (auto& module : codecs.decoder_modules())
                if (files.insert(module.file).second) needs.modules.push_back(module);
            needs.findings.push_back({"not-checked",
                                      fmt::format("“{}” could not be looked at, so every decoder goes along: {}",
                                                  source.name, asked_of.error().sentence),
                                      "Pack again where its address can be reached."});
            continue;
        }
        if (!asked_of) return std::unexpected(asked_of.error());
        auto& info = *asked_of;
        RUEDO_TRY(auto tracks, select_tracks(info, codecs));
        note_outside(path);
        // The user may choose another audio track.
        for (auto& track : info.tracks) {
            if (&track != tracks.video && (track.kind != Kind::audio || track.problem)) continue;
            auto module = codecs.decoder_module(track.codec);
            if (module && files.insert(module->file).second) needs.modules.push_back(*module);
        }
        if (is_address(path)) continue;  // stays where it is
        if (!seen.insert(fs::weakly_canonical(path, ec)).second) continue;
        auto bytes = info.bytes;
        bool stream = info.container == "hls" || info.container == "dash";
        if (stream) {
            // Everything that it is made of.
            RUEDO_TRY(auto parts, stream::files_of(path));
            bytes = 0;
            for (auto& part : parts) {
                note_outside(part);
                bytes += fs::file_size(part, ec);
            }
        }
        needs.media.emplace_back(stream ? fs::path(path).parent_path() : fs::path(path), bytes);
    }
    std::sort(needs.modules.begin(), needs.modules.end(), [](auto& a, auto& b) { return a.file < b.file; });
    needs.licence = combine_licences(needs.modules);
    return needs;
}

Result<Packed> pack(const PlayerDocument& document, const fs::path& folder, const fs::path& out, const fs::path& player,
                    CodecRegistry& codecs, const PackOptions& options) {
    if (document.newer())
        return fail(ErrorCode::too_new,
                    "The project is of a newer format, and may ask for what this Ruedo cannot pack.", "Update Ruedo.");
    if (document.sources.empty())
        return fail(ErrorCode::empty, "The project has no sources, so there is nothing to pack.",
                    "Add a clip in Gather first.");
    RUEDO_TRY(auto needs, needs_of(document, folder, codecs));
    for (auto& file : needs.outside)
        if (!options.outside || !options.outside(file))
            return fail(
                ErrorCode::refused,
                fmt::format("“{}” lies outside the project’s folder, so it is not packed unasked.", file.string()),
                "Copy it into the project’s folder, or confirm that it is meant (--outside).");
    RUEDO_TRY(auto staging, Staging::make(out, options.replace));
    Packed packed;
    packed.licence = needs.licence;
    packed.findings = needs.findings;
    auto stem = file_stem(document.app_name);
    std::error_code ec;
    std::uint64_t total = 0, done = 0;

    auto place = [&](const std::string& relative, const char* kind) -> Result<FileWriter> {
        auto path = staging.folder() / relative;
        RUEDO_TRY_DO(make_folder(path.parent_path()));
        packed.items.push_back({relative, 0, kind});
        return FileWriter::create(path);
    };
    auto write = [&](const std::string& relative, const char* kind, std::string_view text) -> Status {
        RUEDO_TRY(auto file, place(relative, kind));
        RUEDO_TRY_DO(file.write({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}));
        packed.items.back().bytes = file.position();
        return file.commit();
    };
    auto copy = [&](const fs::path& from, const std::string& relative, const char* kind) -> Status {
        RUEDO_TRY(auto source, open_file(from));
        RUEDO_TRY(auto file, place(relative, kind));
        Bytes block(1 << 20);
        for (;;) {
            RUEDO_TRY(auto n, source->read_at(file.position(), block));
            if (n == 0) break;
            RUEDO_TRY_DO(file.write(ByteView(block).first(n)));
            done += n;
            if (options.progress && !options.progress(done, total))
                return fail(ErrorCode::cancelled, "Packing was stopped; nothing was left behind.");
        }
        packed.items.back().bytes = file.position();
        return file.commit();
    };

    struct Copy {
        fs::path from;
        std::string relative;
        const char* kind;
    };
    std::vector<Copy> copies{{player, stem, "executable"}};
    for (auto& m : needs.modules) copies.push_back({m.file, "lib/" + m.file.filename().string(), "library"});

    // Each file once, under its own name; two of the same name get a number.
    std::map<fs::path, std::string> names;
    std::set<std::string> taken;
    auto inside = for_target(document, folder);
    for (auto& source : inside.sources) {
        source.prepared.clear();
        fs::path path = resolve(source, folder);
        auto key = fs::weakly_canonical(path, ec);
        bool stays = is_address(source.file);
        if (!stays && !names.contains(key)) {
            // A stream keeps its folder: its lists name their segments by where they lie.
            RUEDO_TRY(auto parts, parts_of(path));
            auto of = parts.empty() ? path : path.parent_path();
            auto name = of.filename().string();
            for (int i = 2; taken.contains(name); ++i)
                name = fmt::format("{}-{}{}", of.stem().string(), i, of.extension().string());
            taken.insert(name);
            names[key] = "media/" + name;
            if (parts.empty()) copies.push_back({path, names[key], "media"});
            for (auto& part : parts)
                copies.push_back({part,
                                  names[key] + "/" + part.lexically_relative(of.lexically_normal()).generic_string(),
                                  "media"});
            if (!parts.empty()) names[key] += "/" + path.filename().string();
        }
        if (!stays) source.file = names[key];
        std::vector<std::string*> beside_it;
        if (!source.poster.empty() && !is_address(source.poster)) beside_it.push_back(&source.poster);
        for (auto& file : source.captions)
            if (!is_address(file)) beside_it.push_back(&file);
        for (auto* file : beside_it) {
            fs::path from = resolve(*file, folder);
            auto place_key = fs::weakly_canonical(from, ec);
            if (!names.contains(place_key)) {
                auto name = from.filename().string();
                // The language follows from the name, so a number goes in front.
                for (int i = 2; taken.contains(name); ++i) name = fmt::format("{}-{}", i, from.filename().string());
                taken.insert(name);
                names[place_key] = "media/" + name;
                copies.push_back({from, names[place_key], "media"});
            }
            *file = names[place_key];
        }
    }
    for (auto& c : copies)
        if (auto bytes = fs::file_size(c.from, ec); !ec) total += bytes;
    for (auto& c : copies) RUEDO_TRY_DO(copy(c.from, c.relative, c.kind));
    fs::permissions(staging.folder() / stem, fs::perms(0755), ec);
    RUEDO_TRY_DO(write("player.json", "document", to_json(inside).dump(2) + "\n"));
    RUEDO_TRY_DO(write("LICENCES.txt", "notice", notice(document, needs)));
    std::string shown = document.app_name;
    std::replace_if(shown.begin(), shown.end(), [](unsigned char c) { return c < 32; }, ' ');
    RUEDO_TRY_DO(write(
        stem + ".desktop", "desktop",
        fmt::format(
            "[Desktop "
            "Entry]\nType=Application\nName={}\nExec={}\nIcon={}\nCategories=AudioVideo;Player;\nTerminal=false\n",
            shown, stem, stem)));
    RUEDO_TRY_DO(write_png(staging.folder() / (stem + ".png"), draw_icon(document.app_name), Replace::nothing));
    packed.items.push_back({stem + ".png", fs::file_size(staging.folder() / (stem + ".png"), ec), "desktop"});

    for (auto& item : packed.items) packed.bytes += item.bytes;
    std::stable_sort(packed.items.begin(), packed.items.end(), [](auto& a, auto& b) { return a.bytes > b.bytes; });
    RUEDO_TRY_DO(staging.commit());
    packed.folder = staging.target();
    packed.executable = staging.target() / stem;
    return packed;
}

}  // namespace ruedo
