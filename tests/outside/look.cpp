// look.cpp — from C++: this machine's drives, and an image planned for a drive of 4 GiB.
//   look IMAGE
#include <wild_satchel/port/linux.h>
#include <wild_satchel/wild_satchel.h>

#include <cstdio>
#include <cstring>
#include <memory>

int main(int argc, char **argv) {
    ws_error error{};
    ws_port *port = nullptr;
    ws_source *image = nullptr;
    ws_build *build = nullptr;
    if (argc != 2) return 2;
    if (std::strcmp(ws_version(), WS_VERSION) != 0) return 3; // another library than the headers are of
    if (ws_linux_open(&port, &error) != WS_OK) return 4;
    std::size_t count = 0;
    auto visit = [](void *context, const ws_drive_facts *) { return ++*static_cast<std::size_t *>(context) < 64; };
    if (port->ops->list(port, visit, &count, &error) != WS_OK) return 4;
    std::printf("version %s, %zu drives\n", ws_version(), count);
    ws_port_close(port);

    if (ws_source_file(argv[1], &image, &error) != WS_OK) return 4;
    auto request = std::make_unique<ws_request>();
    ws_request_begin(request.get(), WS_KIND_LIVE_FILES);
    ws_request_want(request.get(), WS_ROLE_DATA)->size = ws_size_of(400u << 20);
    ws_build_setting setting{};
    std::strcpy(setting.drive.name, "gorse");
    setting.drive.size = 4ull << 30;
    setting.drive.sector = 512;
    setting.id.byte[0] = 1;
    setting.made_at = 1790000000;
    setting.input[WS_INPUT_IMAGE] = image;
    if (ws_build_prepare(request.get(), &setting, &build, &error) != WS_OK) {
        std::fprintf(stderr, "%s %s\n", error.what, error.next);
        return 4;
    }
    std::size_t volumes = 0;
    const ws_volume *v = ws_plan_volumes(ws_build_plan(build), &volumes);
    for (std::size_t i = 0; i < volumes; i++)
        std::printf("%s %s %llu\n", ws_role_name(v[i].role), v[i].format, static_cast<unsigned long long>(v[i].size));
    ws_build_close(build);
    ws_source_close(image);
    return 0;
}
