#include "emit/packages.h"

#include <string.h>

/* Part of the library: not of the tests, nor of the boards that they run on. */
static bool is_of_library(const char *file, const char *const *networks) {
    const char *ending = strrchr(file, '.');
    bool source = ending != NULL && (strcmp(ending, ".c") == 0 || strcmp(ending, ".h") == 0);
    if (!source) {
        return false;
    }
    bool named = g_str_has_prefix(file, "nsk_") || g_str_has_prefix(file, "firmware/") ||
                 g_str_has_prefix(file, "netsuke/");
    for (; *networks != NULL && !named; networks++) {
        size_t length = strlen(*networks);
        named = strncmp(file, *networks, length) == 0 &&
                (strcmp(file + length, ".h") == 0 || strcmp(file + length, "_model.c") == 0 ||
                 strcmp(file + length, "_firmware.c") == 0);
    }
    return named;
}

static GString *pack_description(char **files, const char *const *networks, const char *version,
                                 const char *description) {
    char *escaped = g_markup_escape_text(description, -1);
    GString *text = g_string_new(NULL);
    g_string_append_printf(
        text,
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
        "<package schemaVersion=\"1.7.7\" xmlns:xs=\"http://www.w3.org/2001/XMLSchema-instance\" "
        "xs:noNamespaceSchemaLocation=\"PACK.xsd\">\n"
        "  <vendor>Netsuke</vendor>\n  <name>%s</name>\n  <description>%s</description>\n"
        "  <url></url>\n"
        "  <releases>\n    <release version=\"%s\">as handed over</release>\n  </releases>\n"
        "  <components>\n"
        "    <component Cclass=\"Machine Learning\" Cgroup=\"Image classifier\" Csub=\"%s\" "
        "Cversion=\"%s\">\n      <description>%s</description>\n      <files>\n"
        "        <file category=\"include\" name=\"./\"/>\n"
        "        <file category=\"doc\" name=\"README.md\"/>\n",
        networks[0], escaped, version, networks[0], version, escaped);
    for (char **file = files; *file != NULL; file++) {
        if (is_of_library(*file, networks)) {
            g_string_append_printf(text, "        <file category=\"%s\" name=\"%s\"/>\n",
                                   g_str_has_suffix(*file, ".h") ? "header" : "sourceC", *file);
        }
    }
    g_string_append(text, "      </files>\n    </component>\n  </components>\n</package>\n");
    g_free(escaped);
    return text;
}

/* A file below src/ that takes in the one of the same name above it: the Arduino builder compiles
 * what is below src/, and optimises for size. */
static GString *wrapper(const char *file) {
    bool source = g_str_has_suffix(file, ".c");
    const char *up = strchr(file, '/') != NULL ? "../../" : "../";
    GString *text = g_string_new(NULL);
    if (source) {
        g_string_append(text, "#if defined(__GNUC__) && !defined(__clang__)\n"
                              "#pragma GCC optimize(\"O2\")\n#endif\n");
    }
    g_string_append_printf(text, "#include \"%s%s\"\n", up, file);
    return text;
}

void nsk_bundle_add_packages(nsk_bundle *bundle, const char *const *networks, const char *version,
                             const char *description) {
    char **files = nsk_bundle_names(bundle);
    char *pack = g_strdup_printf("Netsuke.%s.pdsc", networks[0]);
    nsk_bundle_add(bundle, pack, pack_description(files, networks, version, description));
    for (char **file = files; *file != NULL; file++) {
        if (is_of_library(*file, networks)) {
            char *name = g_strconcat("src/", *file, NULL);
            nsk_bundle_add(bundle, name, wrapper(*file));
            g_free(name);
        }
    }
    g_free(pack);
    g_strfreev(files);
}
