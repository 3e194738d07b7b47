# Start-up code, from src/boot/code: for BIOS by the GNU assembler and a C compiler for 32-bit x86, for UEFI by clang
# and lld, for Linux by clang. The bytes become a C file of the library, so that nothing has to be found at run time. The tools are looked
# for by these names whatever the library itself is compiled with: this code is for PCs, not for the machine it is
# built on.
find_program(WS_CLANG NAMES clang clang-19 clang-18 clang-17 clang-16 clang-15 clang-14 REQUIRED)
find_program(WS_LLD_LINK NAMES lld-link lld-link-19 lld-link-18 lld-link-17 lld-link-16 lld-link-15 lld-link-14 REQUIRED)
find_program(WS_LD NAMES ld x86_64-linux-gnu-ld REQUIRED)
find_program(WS_AS NAMES as x86_64-linux-gnu-as REQUIRED)
find_program(WS_OBJCOPY NAMES objcopy x86_64-linux-gnu-objcopy REQUIRED)

set(code ${PROJECT_SOURCE_DIR}/src/boot/code)
set(made ${PROJECT_BINARY_DIR}/start_code)
file(MAKE_DIRECTORY ${made})
file(GLOB common_code CONFIGURE_DEPENDS ${code}/*.c ${code}/x86/*.c)
file(GLOB bios_code CONFIGURE_DEPENDS ${code}/bios/*.c)
file(GLOB uefi_code CONFIGURE_DEPENDS ${code}/uefi/*.c)
file(GLOB linux_code CONFIGURE_DEPENDS ${code}/linux/*.c)
file(GLOB code_headers CONFIGURE_DEPENDS ${code}/*.h ${code}/bios/*.h ${code}/uefi/*.h ${code}/linux/*.h)
set(strict -std=c11 -Os -ffreestanding -fno-builtin -fno-stack-protector -Wall -Wextra -Wconversion -Wshadow -Werror)
set(bios_flags ${strict} --target=i686-unknown-none-elf -march=i686 -fno-pic -mno-sse -mno-mmx -mno-80387
    -fno-asynchronous-unwind-tables -ffunction-sections -fdata-sections)
set(uefi_flags ${strict} --target=x86_64-unknown-windows -mno-red-zone -fshort-wchar)
set(linux_flags ${strict} --target=x86_64-unknown-none-elf -fno-pic -fno-asynchronous-unwind-tables -ffunction-sections
    -fdata-sections)

function(compile_for kind out_list) # SOURCES..., flags from <kind>_flags
  foreach(source ${ARGN})
    file(RELATIVE_PATH name ${code} ${source})
    string(REPLACE "/" "_" name ${name})
    set(object ${made}/${kind}_${name}.o)
    add_custom_command(OUTPUT ${object} COMMAND ${WS_CLANG} ${${kind}_flags} -c ${source} -o ${object}
                       DEPENDS ${source} ${code_headers})
    list(APPEND objects ${object})
  endforeach()
  set(${out_list} ${objects} PARENT_SCOPE)
endfunction()

compile_for(bios bios_objects ${common_code} ${bios_code})
compile_for(uefi uefi_objects ${common_code} ${uefi_code})
compile_for(linux linux_objects ${common_code} ${linux_code})
# Programs for Linux itself, without a C library, one a file that begins one; the others are what they share.
set(linux_programs early grow drivers)
set(linux_shared ${linux_objects})
foreach(program ${linux_programs})
  list(REMOVE_ITEM linux_shared ${made}/linux_linux_${program}.c.o)
endforeach()

foreach(part mbr stage)
  add_custom_command(OUTPUT ${made}/${part}.o COMMAND ${WS_AS} --32 ${code}/bios/${part}.S -o ${made}/${part}.o
                     DEPENDS ${code}/bios/${part}.S)
endforeach()
add_custom_command(OUTPUT ${made}/bios_first.bin
  COMMAND ${WS_LD} -m elf_i386 -T ${code}/bios/mbr.ld -o ${made}/mbr.elf ${made}/mbr.o
  COMMAND ${WS_OBJCOPY} -O binary ${made}/mbr.elf ${made}/bios_first.bin
  DEPENDS ${made}/mbr.o ${code}/bios/mbr.ld)
add_custom_command(OUTPUT ${made}/bios_second.bin
  COMMAND ${WS_LD} -m elf_i386 --gc-sections -z noexecstack --no-warn-rwx-segments -T ${code}/bios/stage.ld
          -o ${made}/stage.elf ${made}/stage.o ${bios_objects}
  COMMAND ${WS_OBJCOPY} -O binary -j .text -j .rodata -j .data ${made}/stage.elf ${made}/bios_second.bin
  DEPENDS ${made}/stage.o ${bios_objects} ${code}/bios/stage.ld)
add_custom_command(OUTPUT ${made}/uefi.bin
  COMMAND ${WS_LLD_LINK} /subsystem:efi_application /entry:uefi_main /nodefaultlib /dynamicbase /Brepro
          /out:${made}/uefi.bin ${uefi_objects}
  DEPENDS ${uefi_objects})
foreach(program ${linux_programs})
  add_custom_command(OUTPUT ${made}/${program}.bin
    COMMAND ${WS_LD} -m elf_x86_64 -static -nostdlib --gc-sections -s -z noexecstack -z noseparate-code
            -z max-page-size=4096 --build-id=none -o ${made}/${program}.bin ${made}/linux_linux_${program}.c.o ${linux_shared}
    DEPENDS ${linux_objects})
endforeach()
add_custom_command(OUTPUT ${made}/start_code.c
  COMMAND ${CMAKE_COMMAND} "-DFILES=bios_first=${made}/bios_first.bin\;bios_second=${made}/bios_second.bin\;uefi=${made}/uefi.bin\;early=${made}/early.bin\;grow=${made}/grow.bin\;drivers=${made}/drivers.bin"
          -DPREFIX=ws_code_ -DHEADER=boot/code.h -DOUT=${made}/start_code.c -P ${PROJECT_SOURCE_DIR}/cmake/embed.cmake
  DEPENDS ${made}/bios_first.bin ${made}/bios_second.bin ${made}/uefi.bin ${made}/early.bin ${made}/grow.bin ${made}/drivers.bin ${PROJECT_SOURCE_DIR}/cmake/embed.cmake)
set(start_code_source ${made}/start_code.c)
