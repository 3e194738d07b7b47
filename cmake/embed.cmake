# Files of bytes as a C file: cmake -DFOLDER=… -DOUT=… -P embed.cmake
set(text "/* made from src/boot/code */\n#include \"boot/code.h\"\n")
foreach(part bios_first bios_second uefi)
  file(READ ${FOLDER}/${part}.bin hex HEX)
  string(REGEX REPLACE "(..)" "0x\\1," bytes "${hex}")
  string(REGEX REPLACE "(................................................................................)" "\\1\n" bytes "${bytes}")
  string(APPEND text "const uint8_t ws_code_${part}[] = {\n${bytes}\n};\nconst size_t ws_code_${part}_length = sizeof ws_code_${part};\n")
endforeach()
file(WRITE ${OUT} "${text}")
