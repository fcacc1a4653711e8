"""The catalogued CRCs of 3 to 64 bits: names, parameters and check values as in the public catalogue.

The tests compute each check value bit by bit, so that a slip of a digit shows.
"""

from __future__ import annotations

from collections.abc import Mapping

from .crc import CrcAlgorithm

# Name: width, polynomial, initial register, bytes reflected, result reflected, final exclusive or, check value.
_ROWS = """
CRC-3/GSM               3 3 0 no  no  7 4
CRC-3/ROHC              3 3 7 yes yes 0 6
CRC-4/G-704             4 3 0 yes yes 0 7
CRC-4/INTERLAKEN        4 3 F no  no  F B
CRC-5/EPC-C1G2          5 09 09 no  no  00 00
CRC-5/G-704             5 15 00 yes yes 00 07
CRC-5/USB               5 05 1F yes yes 1F 19
CRC-6/CDMA2000-A        6 27 3F no  no  00 0D
CRC-6/CDMA2000-B        6 07 3F no  no  00 3B
CRC-6/DARC              6 19 00 yes yes 00 26
CRC-6/G-704             6 03 00 yes yes 00 06
CRC-6/GSM               6 2F 00 no  no  3F 13
CRC-7/MMC               7 09 00 no  no  00 75
CRC-7/ROHC              7 4F 7F yes yes 00 53
CRC-7/UMTS              7 45 00 no  no  00 61
CRC-8/AUTOSAR           8 2F FF no  no  FF DF
CRC-8/BLUETOOTH         8 A7 00 yes yes 00 26
CRC-8/CDMA2000          8 9B FF no  no  00 DA
CRC-8/DARC              8 39 00 yes yes 00 15
CRC-8/DVB-S2            8 D5 00 no  no  00 BC
CRC-8/GSM-A             8 1D 00 no  no  00 37
CRC-8/GSM-B             8 49 00 no  no  FF 94
CRC-8/HITAG             8 1D FF no  no  00 B4
CRC-8/I-432-1           8 07 00 no  no  55 A1
CRC-8/I-CODE            8 1D FD no  no  00 7E
CRC-8/LTE               8 9B 00 no  no  00 EA
CRC-8/MAXIM-DOW         8 31 00 yes yes 00 A1
CRC-8/MIFARE-MAD        8 1D C7 no  no  00 99
CRC-8/NRSC-5            8 31 FF no  no  00 F7
CRC-8/OPENSAFETY        8 2F 00 no  no  00 3E
CRC-8/ROHC              8 07 FF yes yes 00 D0
CRC-8/SAE-J1850         8 1D FF no  no  FF 4B
CRC-8/SMBUS             8 07 00 no  no  00 F4
CRC-8/TECH-3250         8 1D FF yes yes 00 97
CRC-8/WCDMA             8 9B 00 yes yes 00 25
CRC-10/ATM              10 233 000 no  no  000 199
CRC-10/CDMA2000         10 3D9 3FF no  no  000 233
CRC-10/GSM              10 175 000 no  no  3FF 12A
CRC-11/FLEXRAY          11 385 01A no  no  000 5A3
CRC-11/UMTS             11 307 000 no  no  000 061
CRC-12/CDMA2000         12 F13 FFF no  no  000 D4D
CRC-12/DECT             12 80F 000 no  no  000 F5B
CRC-12/GSM              12 D31 000 no  no  FFF B34
CRC-12/UMTS             12 80F 000 no  yes 000 DAF
CRC-13/BBC              13 1CF5 0000 no  no  0000 04FA
CRC-14/DARC             14 0805 0000 yes yes 0000 082D
CRC-14/GSM              14 202D 0000 no  no  3FFF 30AE
CRC-15/CAN              15 4599 0000 no  no  0000 059E
CRC-15/MPT1327          15 6815 0000 no  no  0001 2566
CRC-16/ARC              16 8005 0000 yes yes 0000 BB3D
CRC-16/CDMA2000         16 C867 FFFF no  no  0000 4C06
CRC-16/CMS              16 8005 FFFF no  no  0000 AEE7
CRC-16/DDS-110          16 8005 800D no  no  0000 9ECF
CRC-16/DECT-R           16 0589 0000 no  no  0001 007E
CRC-16/DECT-X           16 0589 0000 no  no  0000 007F
CRC-16/DNP              16 3D65 0000 yes yes FFFF EA82
CRC-16/EN-13757         16 3D65 0000 no  no  FFFF C2B7
CRC-16/GENIBUS          16 1021 FFFF no  no  FFFF D64E
CRC-16/GSM              16 1021 0000 no  no  FFFF CE3C
CRC-16/IBM-3740         16 1021 FFFF no  no  0000 29B1
CRC-16/IBM-SDLC         16 1021 FFFF yes yes FFFF 906E
CRC-16/ISO-IEC-14443-3-A 16 1021 C6C6 yes yes 0000 BF05
CRC-16/KERMIT           16 1021 0000 yes yes 0000 2189
CRC-16/LJ1200           16 6F63 0000 no  no  0000 BDF4
CRC-16/M17              16 5935 FFFF no  no  0000 772B
CRC-16/MAXIM-DOW        16 8005 0000 yes yes FFFF 44C2
CRC-16/MCRF4XX          16 1021 FFFF yes yes 0000 6F91
CRC-16/MODBUS           16 8005 FFFF yes yes 0000 4B37
CRC-16/NRSC-5           16 080B FFFF yes yes 0000 A066
CRC-16/OPENSAFETY-A     16 5935 0000 no  no  0000 5D38
CRC-16/OPENSAFETY-B     16 755B 0000 no  no  0000 20FE
CRC-16/PROFIBUS         16 1DCF FFFF no  no  FFFF A819
CRC-16/RIELLO           16 1021 B2AA yes yes 0000 63D0
CRC-16/SPI-FUJITSU      16 1021 1D0F no  no  0000 E5CC
CRC-16/T10-DIF          16 8BB7 0000 no  no  0000 D0DB
CRC-16/TELEDISK         16 A097 0000 no  no  0000 0FB3
CRC-16/TMS37157         16 1021 89EC yes yes 0000 26B1
CRC-16/UMTS             16 8005 0000 no  no  0000 FEE8
CRC-16/USB              16 8005 FFFF yes yes FFFF B4C8
CRC-16/XMODEM           16 1021 0000 no  no  0000 31C3
CRC-17/CAN-FD           17 1685B 00000 no  no  00000 04F03
CRC-21/CAN-FD           21 102899 000000 no  no  000000 0ED841
CRC-24/BLE              24 00065B 555555 yes yes 000000 C25A56
CRC-24/FLEXRAY-A        24 5D6DCB FEDCBA no  no  000000 7979BD
CRC-24/FLEXRAY-B        24 5D6DCB ABCDEF no  no  000000 1F23B8
CRC-24/INTERLAKEN       24 328B63 FFFFFF no  no  FFFFFF B4F3E6
CRC-24/LTE-A            24 864CFB 000000 no  no  000000 CDE703
CRC-24/LTE-B            24 800063 000000 no  no  000000 23EF52
CRC-24/OPENPGP          24 864CFB B704CE no  no  000000 21CF02
CRC-24/OS-9             24 800063 FFFFFF no  no  FFFFFF 200FA5
CRC-30/CDMA             30 2030B9C7 3FFFFFFF no  no  3FFFFFFF 04C34ABF
CRC-31/PHILIPS          31 04C11DB7 7FFFFFFF no  no  7FFFFFFF 0CE9E46C
CRC-32/AIXM             32 814141AB 00000000 no  no  00000000 3010BF7F
CRC-32/AUTOSAR          32 F4ACFB13 FFFFFFFF yes yes FFFFFFFF 1697D06A
CRC-32/BASE91-D         32 A833982B FFFFFFFF yes yes FFFFFFFF 87315576
CRC-32/BZIP2            32 04C11DB7 FFFFFFFF no  no  FFFFFFFF FC891918
CRC-32/CD-ROM-EDC       32 8001801B 00000000 yes yes 00000000 6EC2EDC4
CRC-32/CKSUM            32 04C11DB7 00000000 no  no  FFFFFFFF 765E7680
CRC-32/ISCSI            32 1EDC6F41 FFFFFFFF yes yes FFFFFFFF E3069283
CRC-32/ISO-HDLC         32 04C11DB7 FFFFFFFF yes yes FFFFFFFF CBF43926
CRC-32/JAMCRC           32 04C11DB7 FFFFFFFF yes yes 00000000 340BC6D9
CRC-32/MEF              32 741B8CD7 FFFFFFFF yes yes 00000000 D2C22F51
CRC-32/MPEG-2           32 04C11DB7 FFFFFFFF no  no  00000000 0376E6E7
CRC-32/XFER             32 000000AF 00000000 no  no  00000000 BD0BE338
CRC-40/GSM              40 0004820009 0000000000 no  no  FFFFFFFFFF D4164FC646
CRC-64/ECMA-182         64 42F0E1EBA9EA3693 0 no  no  0 6C40DF5F0B497347
CRC-64/GO-ISO           64 1B FFFFFFFFFFFFFFFF yes yes FFFFFFFFFFFFFFFF B90956C775A41001
CRC-64/MS               64 259C84CBA6426349 FFFFFFFFFFFFFFFF yes yes 0 75D4B74F024ECEEA
CRC-64/NVME             64 AD93D23594C93659 FFFFFFFFFFFFFFFF yes yes FFFFFFFFFFFFFFFF AE8B14860A799888
CRC-64/REDIS            64 AD93D23594C935A9 0 yes yes 0 E9C6D914C4B8D9CA
CRC-64/WE               64 42F0E1EBA9EA3693 FFFFFFFFFFFFFFFF no  no  FFFFFFFFFFFFFFFF 62EC59E3F1A4F00A
CRC-64/XZ               64 42F0E1EBA9EA3693 FFFFFFFFFFFFFFFF yes yes FFFFFFFFFFFFFFFF 995DC9BBDF1939FA
"""


def _entry(row: str) -> tuple[str, CrcAlgorithm]:
    name, width, poly, init, reflect_in, reflect_out, final_xor, check = row.split()
    return name, CrcAlgorithm.model_construct(
        width=int(width),
        poly=int(poly, 16),
        init=int(init, 16),
        reflect_in=reflect_in == "yes",
        reflect_out=reflect_out == "yes",
        final_xor=int(final_xor, 16),
        check=int(check, 16),
    )


CATALOGUE: Mapping[str, CrcAlgorithm] = dict(map(_entry, _ROWS.strip().splitlines()))
