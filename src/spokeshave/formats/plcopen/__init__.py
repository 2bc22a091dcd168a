"""PLCopen XML, TC6 version 2.01 and 2.0: programs with sequential function charts in and out.

XML ──reading──> IEC text, with the place in the XML of each of its lines ──formats.iec_read──> machine file
machine file ──writing──> XML, with what it cannot say as additional data of our own
"""
