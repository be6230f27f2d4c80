// SPDX-License-Identifier: Apache-2.0
#include "picture/reshape.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("Fitting keeps its promise for every shape, place and alignment", "[picture]") {
    std::mt19937 random(10);
    auto side = [&] { return 1.0 + static_cast<double>(random() % 2000); };
    for (int i = 0; i < 3000; ++i) {
        double w = side(), h = side(), aw = side(), ah = side(), ax = static_cast<double>(random() % 3) / 2,
               ay = static_cast<double>(random() % 3) / 2;
        auto near = [](double a, double b) { return std::abs(a - b) < 1e-6 * std::max(1.0, std::abs(b)); };
        auto contain = fit_rect(Fit::contain, w, h, aw, ah, ax, ay), cover = fit_rect(Fit::cover, w, h, aw, ah, ax, ay);
        auto fill = fit_rect(Fit::fill, w, h, aw, ah, ax, ay), none = fit_rect(Fit::none, w, h, aw, ah, ax, ay);
        CHECK(near(contain.width * h, contain.height * w));
        CHECK(near(cover.width * h, cover.height * w));
        CHECK((contain.width <= aw + 1e-6 && contain.height <= ah + 1e-6 &&
               (near(contain.width, aw) || near(contain.height, ah))));
        CHECK((cover.width >= aw - 1e-6 && cover.height >= ah - 1e-6 &&
               (near(cover.width, aw) || near(cover.height, ah))));
        CHECK((near(fill.width, aw) && near(fill.height, ah)));
        CHECK((near(none.width, w) && near(none.height, h)));
        for (auto& r : {contain, cover, none})
            CHECK((near(r.x, (aw - r.width) * ax) && near(r.y, (ah - r.height) * ay)));
    }
}

TEST_CASE("Colours come out as they were meant: matrix and range are honoured", "[picture]") {
    for (auto name : {"colour_bt709_full_h264.mp4", "colour_bt601_limited_h264.mp4"}) {
        auto clip = open(name);
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        auto image = render(value(reader->at(1_s)));
        for (auto& patch : facts(name)["tracks"][0]["patches"]) {
            auto rect = patch["rect"].get<std::vector<double>>();
            int x = static_cast<int>((rect[0] + rect[2]) / 2 * image.width),
                y = static_cast<int>((rect[1] + rect[3]) / 2 * image.height);
            auto* p = &image.pixels[static_cast<std::size_t>((y * image.width + x) * 4)];
            INFO(name << " " << patch["name"]);
            CHECK(std::abs(p[2] - patch["rgb"][0].get<int>()) <= 6);
            CHECK(std::abs(p[1] - patch["rgb"][1].get<int>()) <= 6);
            CHECK(std::abs(p[0] - patch["rgb"][2].get<int>()) <= 6);
        }
    }
}

TEST_CASE("No pixel is more than two off the standard's matrix, whatever its luma and chroma", "[picture]") {
    struct Row {
        Colour::Matrix matrix;
        double kr, kb;
    };
    for (auto [matrix, kr, kb] : {Row{Colour::Matrix::bt601, 0.299, 0.114}, Row{Colour::Matrix::bt709, 0.2126, 0.0722},
                                  Row{Colour::Matrix::bt2020, 0.2627, 0.0593}})
        for (auto range : {Colour::Range::limited, Colour::Range::full}) {
            bool full = range == Colour::Range::full;
            double worst = 0;
            // Pixels 2n and 2n + 1 share a chroma sample; 37 wide, so that the rest of a row is looked at as well.
            std::array<std::uint8_t*, 3> planes{};
            auto p = make_frame(37, 256, planes);
            p.colour = {matrix, range, 2, 2};
            for (int u = 0; u < 256; u += 5) {
                for (int v = 0; v < 256; v += 15) {
                    for (std::ptrdiff_t y = 0; y < 256; ++y)
                        std::memset(planes[0] + y * p.stride[0], static_cast<int>(y), 37);
                    for (std::ptrdiff_t y = 0; y < 128; ++y) {
                        std::memset(planes[1] + y * p.stride[1], u, 19);
                        std::memset(planes[2] + y * p.stride[2], v, 19);
                    }
                    auto image = render(p);
                    for (int y = 0; y < 256; ++y)
                        for (int x : {3, 36}) {
                            double luma = full ? y : (y - 16) * 255.0 / 219, c = full ? 1 : 255.0 / 224;
                            double cb = (u - 128) * c, cr = (v - 128) * c, kg = 1 - kr - kb;
                            std::array exact{luma + 2 * (1 - kb) * cb,
                                             luma - 2 * (1 - kb) * kb / kg * cb - 2 * (1 - kr) * kr / kg * cr,
                                             luma + 2 * (1 - kr) * cr};
                            for (std::size_t k = 0; k < 3; ++k) {
                                auto got = image.pixels[static_cast<std::size_t>((y * 37 + x) * 4) + k];
                                worst = std::max(worst, std::abs(got - std::clamp(exact[k], 0.0, 255.0)));
                            }
                        }
                }
            }
            INFO("matrix " << static_cast<int>(matrix) << " range " << static_cast<int>(range) << " worst " << worst);
            CHECK(worst <= 1);
        }
}

TEST_CASE("Pixels to a picture and back stay what they were, for every matrix and range", "[picture]") {
    for (auto matrix : {Colour::Matrix::bt601, Colour::Matrix::bt709, Colour::Matrix::bt2020})
        for (auto range : {Colour::Range::limited, Colour::Range::full})
            for (int c = 0; c < 27; ++c) {
                std::array<int, 3> rgb{c % 3 * 127, c / 3 % 3 * 127, c / 9 * 127};
                RgbImage image{16, 16, Pixels(16 * 16 * 4, 255)};
                for (int i = 0; i < 256; ++i)
                    for (std::size_t k = 0; k < 3; ++k)
                        image.pixels[static_cast<std::size_t>(4 * i) + 2 - k] = static_cast<std::uint8_t>(rgb[k]);
                auto back = render(to_frame(image, {matrix, range, 2, 2}));
                for (std::size_t k = 0; k < 3; ++k) {
                    INFO("matrix " << static_cast<int>(matrix) << " range " << static_cast<int>(range) << " colour "
                                   << c);
                    CHECK(std::abs(back.pixels[4 * 100 + 2 - k] - rgb[k]) <= 2);
                }
            }
}

TEST_CASE("What is stated of colour counts before what is known otherwise, each part of it, and codes come back",
          "[picture]") {
    std::mt19937 random(67);
    auto any = [&] {
        Colour c;
        c.matrix = static_cast<Colour::Matrix>(random() % 5);
        c.range = std::array{Colour::Range::unspecified, Colour::Range::limited, Colour::Range::full}[random() % 3];
        c.primaries = random() % 2 ? 2 : static_cast<std::uint8_t>(1 + random() % 12);
        c.transfer = random() % 2 ? 2 : static_cast<std::uint8_t>(1 + random() % 18);
        return c;
    };
    for (int i = 0; i < 3000; ++i) {
        auto a = any(), b = any(), c = any();
        auto both = a.or_else(b);
        CHECK(both.matrix == (a.matrix == Colour::Matrix::unspecified ? b.matrix : a.matrix));
        CHECK(both.range == (a.range == Colour::Range::unspecified ? b.range : a.range));
        CHECK(both.primaries == (a.primaries == 2 ? b.primaries : a.primaries));
        CHECK(both.transfer == (a.transfer == 2 ? b.transfer : a.transfer));
        CHECK((a.or_else(a) == a && a.or_else({}) == a && Colour{}.or_else(a) == a));
        CHECK(a.or_else(b).or_else(c) == a.or_else(b.or_else(c)));
        CHECK(Colour::matrix_from_code(a.matrix_code()) == a.matrix);
        auto settled = a.resolved(static_cast<int>(1 + random() % 2000));
        CHECK(settled.matrix != Colour::Matrix::unspecified);
        CHECK(settled.range != Colour::Range::unspecified);
        // Pictures of 4:2:0 are never red, green and blue, whatever is said of them.
        CHECK(settled.matrix != Colour::Matrix::identity);
        if (a.matrix != Colour::Matrix::identity) CHECK(a.or_else(settled) == settled);
    }
    for (unsigned code = 0; code < 300; ++code) {
        auto matrix = Colour::matrix_from_code(code);
        Colour c;
        c.matrix = matrix;
        // Several codes may mean the same; the one that is written means it too.
        CHECK(Colour::matrix_from_code(c.matrix_code()) == matrix);
        if (code > 10) CHECK(matrix == Colour::Matrix::unspecified);
    }
}

TEST_CASE("A picture is turned clockwise, scaled to any size, odd ones too", "[picture]") {
    RgbImage image{41, 27, Pixels(41 * 27 * 4, 0)};
    // A bright corner at the top left.
    for (int y = 0; y < 9; ++y)
        for (int x = 0; x < 13; ++x)
            for (int k = 0; k < 3; ++k) image.pixels[static_cast<std::size_t>((y * 41 + x) * 4 + k)] = 255;
    auto p = to_frame(image, {});
    auto bright = [](const RgbImage& i, int x, int y) {
        return i.pixels[static_cast<std::size_t>((y * i.width + x) * 4)] > 128;
    };
    std::mt19937 random(11);
    for (int turn = 0; turn < 360; turn += 90)
        for (int n = 0; n < 20; ++n) {
            p.rotation = turn;
            int w = n == 0 ? (turn % 180 ? 27 : 41) : 12 + static_cast<int>(random() % 120),
                h = n == 0 ? (turn % 180 ? 41 : 27) : 12 + static_cast<int>(random() % 120);
            auto out = render(p, w, h);
            REQUIRE(out.width == w);
            REQUIRE(out.height == h);
            bool right = turn == 90 || turn == 180, bottom = turn == 180 || turn == 270;
            INFO("turned by " << turn << " to " << w << " x " << h);
            CHECK(bright(out, right ? w - 2 : 1, bottom ? h - 2 : 1));
            CHECK_FALSE(bright(out, right ? 1 : w - 2, bottom ? 1 : h - 2));
        }
}

TEST_CASE("What is unspecified is resolved by size, never assumed", "[picture]") {
    CHECK(Colour{}.resolved(720).matrix == Colour::Matrix::bt709);
    CHECK(Colour{}.resolved(576).matrix == Colour::Matrix::bt601);
    CHECK(Colour{}.resolved(576).range == Colour::Range::limited);
    CHECK(Colour{Colour::Matrix::bt2020, Colour::Range::full, 9, 16}.resolved(100).matrix == Colour::Matrix::bt2020);
}

TEST_CASE("The number along the foot of a picture is read at any size, and nothing is made out where there is none",
          "[picture]") {
    std::mt19937 random(103);
    for (int i = 0; i < 400; ++i) {
        int w = 160 + static_cast<int>(random() % 1200), h = 90 + static_cast<int>(random() % 800);
        RgbImage image{w, h, Pixels(static_cast<std::size_t>(w) * static_cast<std::size_t>(h) * 4)};
        auto shade = static_cast<int>(random() % 200);
        for (std::size_t k = 0; k < image.pixels.size(); ++k)
            image.pixels[k] = static_cast<std::uint8_t>(shade + static_cast<int>(k * 7919 % 50));
        auto plain = demo::read_strip(image);
        int number = static_cast<int>(random() % demo::strip_numbers);
        bool second = random() % 2;
        demo::draw_strip(image, number, second);
        INFO(w << " x " << h << ", number " << number);
        CHECK(demo::read_strip(image) == number);
        CHECK(demo::read_flash(image) == second);
        CHECK_FALSE(plain.has_value());
        // Only the lowest fiftieth of the picture is touched.
        for (int y : {0, h / 2, h - 1 - std::max(2, (h * 2 + 99) / 100)})
            CHECK(image.pixels[static_cast<std::size_t>(y) * static_cast<std::size_t>(w) * 4 + 40] ==
                  static_cast<std::uint8_t>(shade + (y * w * 4 + 40) % 50 * 7919 % 50));
        // One cell changed breaks the parity, so it is not taken for another number.
        auto cell = 4 + static_cast<int>(random() % 13);
        for (int y = h - std::max(2, static_cast<int>(std::lround(h * 0.02))); y < h; ++y)
            for (int x = cell * w / 20 + 1; x < (cell + 1) * w / 20; ++x)
                for (int c = 0; c < 3; ++c) {
                    auto& v = image.pixels[static_cast<std::size_t>((y * w + x) * 4 + c)];
                    v = v > 76 ? 20 : 132;
                }
        CHECK_FALSE(demo::read_strip(image).has_value());
    }
}

TEST_CASE("A picture keeps its number through every encoder, small ones too", "[picture]") {
    for (auto [codec, w, h] : {std::tuple{Codec::h264, 320, 180},
                               {Codec::vp9, 320, 180},
                               {Codec::vp8, 320, 180},
                               {Codec::h264, 640, 360},
                               {Codec::vp9, 1280, 720}}) {
        demo::ClipSpec spec;
        Folder folder;
        spec.file = codec == Codec::h264 ? "n.mp4" : "n.webm";
        spec.video = codec, spec.audio = codec == Codec::h264 ? Codec::aac : Codec::opus;
        spec.width = w, spec.height = h, spec.seconds = 1, spec.bitrate = 300'000, spec.numbered = true;
        spec.draw = [](demo::Canvas& c, double t) {
            c.gradient({20, 40, 90}, {120, 90, 60});
            c.circle({c.width() * (0.2 + 0.5 * t), c.height() * 0.6}, 12, {240, 210, 120});
        };
        spec.sample = demo::burst;
        done(demo::make_clip(spec, folder.path, CodecRegistry::standard()));
        std::shared_ptr<Clip> clip = value(open_clip(folder / spec.file));
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        INFO(codec_name(codec) << " " << w << " x " << h);
        int n = 0;
        while (auto p = value(reader->next())) {
            auto image = render(*p);
            CHECK(demo::read_strip(image) == n);
            // As it is seen in a smaller place as well.
            if (w > 320) CHECK(demo::read_strip(render(*p, 320, 180)) == n);
            ++n;
        }
        CHECK(n == 30);
    }
}

TEST_CASE("A picture is scaled as the plain formula scales it, to odd sizes as to even ones", "[picture]") {
    // Separable Lanczos of three lobes in double precision, the kernel widened where it becomes smaller.
    auto lanczos = [](double x) {
        constexpr double pi = 3.14159265358979323846;
        if (std::abs(x) < 1e-12) return 1.0;
        return std::abs(x) < 3 ? 3 * std::sin(pi * x) * std::sin(pi * x / 3) / (pi * pi * x * x) : 0.0;
    };
    auto resize = [&](const std::vector<double>& row, int to) {
        auto from = static_cast<int>(row.size());
        double ratio = static_cast<double>(from) / to, wide = std::max(1.0, ratio);
        std::vector<double> out(static_cast<std::size_t>(to));
        for (int i = 0; i < to; ++i) {
            double middle = (i + 0.5) * ratio - 0.5, sum = 0, weights = 0;
            for (int k = static_cast<int>(std::floor(middle - 3 * wide)); k <= middle + 3 * wide; ++k) {
                auto weight = lanczos((k - middle) / wide);
                sum += weight * row[static_cast<std::size_t>(std::clamp(k, 0, from - 1))], weights += weight;
            }
            out[static_cast<std::size_t>(i)] = sum / weights;
        }
        return out;
    };
    constexpr int w = 640, h = 360;
    std::array<std::uint8_t*, 3> planes{};
    auto picture = make_frame(w, h, planes);
    picture.colour.matrix = Colour::Matrix::bt601, picture.colour.range = Colour::Range::limited;
    auto light = [](int x, int y) { return 126 + 60 * std::sin(x * 0.11 + y * 0.05) + 40 * std::cos(y * 0.17); };
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x)
            planes[0][y * picture.stride[0] + x] = static_cast<std::uint8_t>(std::lround(light(x, y)));
    for (int i : {1, 2})
        for (int y = 0; y < h / 2; ++y)
            std::fill_n(planes[static_cast<std::size_t>(i)] + y * picture.stride[1], w / 2, 128);
    for (auto [to_w, to_h] : {std::pair{426, 240}, {427, 241}, {213, 121}, {427, 240}, {601, 359}}) {
        INFO(to_w << " x " << to_h);
        std::vector<std::vector<double>> across, columns(static_cast<std::size_t>(to_w));
        for (int y = 0; y < h; ++y) {
            std::vector<double> row;
            for (int x = 0; x < w; ++x) row.push_back(planes[0][y * picture.stride[0] + x]);
            across.push_back(resize(row, to_w));
        }
        for (int x = 0; x < to_w; ++x) {
            std::vector<double> column;
            for (auto& row : across) column.push_back(row[static_cast<std::size_t>(x)]);
            columns[static_cast<std::size_t>(x)] = resize(column, to_h);
        }
        Reshape r;
        r.width = w, r.height = h, r.to_width = r.canvas_width = to_w, r.to_height = r.canvas_height = to_h;
        r.colour = picture.colour;
        Reshaper shaper;
        auto made = value(shaper.make(picture, r));
        REQUIRE((made.width == to_w && made.height == to_h));
        double worst = 0, errors = 0;
        for (int y = 0; y < to_h; ++y)
            for (int x = 0; x < to_w; ++x) {
                auto off = std::abs(made.plane[0][y * made.stride[0] + x] -
                                    columns[static_cast<std::size_t>(x)][static_cast<std::size_t>(y)]);
                // What lies beyond the edge is another question.
                bool inside = x > 8 && y > 8 && x < to_w - 9 && y < to_h - 9;
                if (inside) worst = std::max(worst, off);
                errors += off * off;
            }
        CHECK(worst < 1.2);
        CHECK(10 * std::log10(255 * 255 / (errors / to_w / to_h)) > 45);
    }
}
