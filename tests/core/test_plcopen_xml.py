"""PLCopen XML in and out: charts of others as they are exported, ours held against a schema, what would harm refused."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from spokeshave.engine.link import link_problems
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import read_project, write_project
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.formats.plcopen.reading import project_of
from spokeshave.formats.plcopen.writing import SPACE, write_xml
from spokeshave.formats.spoke import loads
from spokeshave.model.project import Project, Sequence
from spokeshave.reading import read_file
from tests.core.projects import projects, structured
from tests.core.test_generated_code import hundreds
from tests.core.test_routines_and_tables import DRIVES


@cache
def schema() -> etree.XMLSchema:
    """The elements that are written, in the order and with the attributes that the text of the format asks for."""
    return etree.XMLSchema(etree.parse(str(Path(__file__).parent / "tc6_0201.xsd")))


def said(q: Sequence) -> tuple[object, ...]:
    return q.name, q.initial, [(s.name, s.actions) for s in q.steps], q.transitions


@hundreds
@given(st.one_of(projects(), structured()))
def test_a_file_is_the_same_behind_xml_and_its_charts_without_our_own_data(project):
    text = write_xml(project)
    schema().assertValid(etree.fromstring(text.encode()))
    assert project_of(text.encode()) == project
    assert write_xml(parse_iec(write_iec(project_of(text.encode())))) == text, "XML to .st to XML"
    others = project_of(text.replace('name="spokeshave"', 'name="http://example.org/x"').encode())
    assert [said(q) for q in others.sequences] == [said(q) for q in project.sequences]
    assert [(s.name, s.type, s.initial) for s in others.signals] == [
        (s.name, s.type, s.initial) for s in project.signals
    ]
    assert others.period_ms == project.period_ms


def test_the_roastery_and_a_file_with_blocks_and_tables_are_whole_behind_xml(tmp_path):
    roastery = loads((files("spokeshave.examples") / "roastery.spoke").read_text(encoding="utf-8"))
    for n, project in enumerate((roastery, parse_iec(DRIVES))):
        path = tmp_path / f"{n}.xml"
        write_project(project, path)
        schema().assertValid(etree.parse(str(path)))
        assert read_project(path) == project
        others = project_of(path.read_text(encoding="utf-8").replace('name="spokeshave"', 'name="x"').encode())
        assert (others.tables, [r.text for r in others.routines]) == (
            project.tables,
            [r.text for r in project.routines],
        )
        assert [said(q) for q in others.sequences] == [said(q) for q in project.sequences]
    root = etree.parse(str(tmp_path / "0.xml"))
    steps = root.findall(".//{*}SFC/{*}step")
    places = {(s.find("{*}position").get("x"), s.find("{*}position").get("y")) for s in steps[:15]}
    assert len(places) == 15 and int(steps[0].find("{*}position").get("y")) < int(steps[1].find("{*}position").get("y"))


FOREIGN = """<?xml version="1.0" encoding="utf-8"?>
<ppx:project xmlns:ppx="http://www.plcopen.org/xml/tc6_0200" xmlns:h="http://www.w3.org/1999/xhtml">
<ppx:fileHeader companyName="" productName="made up" productVersion="1" creationDateTime="2026-01-01T00:00:00"/>
<ppx:contentHeader name="Tub"><ppx:coordinateInfo/></ppx:contentHeader>
<ppx:types><ppx:dataTypes/><ppx:pous>
 <ppx:pou name="Scaled" pouType="function"><ppx:interface><ppx:returnType><ppx:INT/></ppx:returnType>
  <ppx:inputVars><ppx:variable name="Raw"><ppx:type><ppx:INT/></ppx:type></ppx:variable></ppx:inputVars></ppx:interface>
  <ppx:body><ppx:ST><h:p>Scaled := Raw * 2;</h:p></ppx:ST></ppx:body></ppx:pou>
 <ppx:pou name="Tub" pouType="program"><ppx:interface>
  <ppx:inputVars><ppx:variable name="Go" address="%IX0.0"><ppx:type><ppx:BOOL/></ppx:type><ppx:documentation><h:p>the button</h:p>
    </ppx:documentation></ppx:variable>
   <ppx:variable name="Level"><ppx:type><ppx:INT/></ppx:type></ppx:variable></ppx:inputVars>
  <ppx:outputVars><ppx:variable name="Valve"><ppx:type><ppx:BOOL/></ppx:type></ppx:variable></ppx:outputVars>
  <ppx:localVars><ppx:variable name="Late"><ppx:type><ppx:derived name="TON"/></ppx:type></ppx:variable>
   <ppx:variable name="Mode"><ppx:type><ppx:INT/></ppx:type><ppx:initialValue><ppx:simpleValue value="3"/></ppx:initialValue>
    </ppx:variable></ppx:localVars>
 </ppx:interface>
 <ppx:actions><ppx:action name="Watch"><ppx:body><ppx:ST><h:p>Late(IN := Valve,</h:p><h:p>  PT := T#5s);</h:p></ppx:ST></ppx:body>
    </ppx:action></ppx:actions>
 <ppx:transitions><ppx:transition name="Begin"><ppx:body><ppx:ST><h:p>Begin := Go AND Mode = 3;</h:p></ppx:ST></ppx:body></ppx:transition>
    </ppx:transitions>
 <ppx:body><ppx:SFC>
  <ppx:step localId="1" name="Rest" initialStep="true"><ppx:position x="0" y="0"/><ppx:connectionPointIn/>
    <ppx:connectionPointOut formalParameter=""/>
   <ppx:documentation><h:p>waits for the button</h:p></ppx:documentation></ppx:step>
  <ppx:selectionDivergence localId="2"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="1"/>
    </ppx:connectionPointIn>
   <ppx:connectionPointOut formalParameter="b"/><ppx:connectionPointOut formalParameter="a"/></ppx:selectionDivergence>
  <ppx:transition localId="3"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="2" formalParameter="a"/>
    </ppx:connectionPointIn>
   <ppx:condition><ppx:reference name="Begin"/></ppx:condition></ppx:transition>
  <ppx:transition localId="4"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="2" formalParameter="b"/>
    </ppx:connectionPointIn>
   <ppx:condition><ppx:inline name=""><ppx:ST><h:p>:= Scaled(Level) &gt; 7;</h:p></ppx:ST></ppx:inline></ppx:condition></ppx:transition>
  <ppx:simultaneousDivergence localId="5"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="3"/>
    </ppx:connectionPointIn>
   <ppx:connectionPointOut formalParameter="1"/><ppx:connectionPointOut formalParameter="2"/></ppx:simultaneousDivergence>
  <ppx:step localId="6" name="Fill"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="5" formalParameter="1"/>
    </ppx:connectionPointIn></ppx:step>
  <ppx:step localId="7" name="Stir"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="5" formalParameter="2"/>
    </ppx:connectionPointIn></ppx:step>
  <ppx:actionBlock localId="8"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="6"/></ppx:connectionPointIn>
   <ppx:action qualifier="L" duration="T#2s"><ppx:relPosition x="0" y="0"/><ppx:reference name="Valve"/></ppx:action>
   <ppx:action><ppx:relPosition x="0" y="0"/><ppx:reference name="Watch"/></ppx:action>
   <ppx:action qualifier="P1"><ppx:relPosition x="0" y="0"/><ppx:inline name=""><ppx:ST><h:p>Mode := Mode + 1;</h:p></ppx:ST></ppx:inline>
    </ppx:action></ppx:actionBlock>
  <ppx:simultaneousConvergence localId="9"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="6"/>
    </ppx:connectionPointIn>
   <ppx:connectionPointIn><ppx:connection refLocalId="7"/></ppx:connectionPointIn></ppx:simultaneousConvergence>
  <ppx:inVariable localId="10"><ppx:position x="0" y="0"/><ppx:connectionPointOut/><ppx:expression>Late.Q</ppx:expression></ppx:inVariable>
  <ppx:transition localId="11" priority="1"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="9"/>
    </ppx:connectionPointIn>
   <ppx:condition><ppx:connectionPointIn><ppx:connection refLocalId="10"/></ppx:connectionPointIn></ppx:condition></ppx:transition>
  <ppx:selectionConvergence localId="12"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="11"/>
    </ppx:connectionPointIn>
   <ppx:connectionPointIn><ppx:connection refLocalId="4"/></ppx:connectionPointIn></ppx:selectionConvergence>
  <ppx:jumpStep localId="13" targetName="Rest"><ppx:position x="0" y="0"/><ppx:connectionPointIn><ppx:connection refLocalId="12"/>
    </ppx:connectionPointIn></ppx:jumpStep>
 </ppx:SFC></ppx:body>
 <ppx:addData><ppx:data name="http://example.org/colours" handleUnknown="preserve"><c:colour xmlns:c="urn:c" of="Fill">green</c:colour>
    </ppx:data></ppx:addData>
 </ppx:pou></ppx:pous></ppx:types>
<ppx:instances><ppx:configurations><ppx:configuration name="c"><ppx:resource name="r"><ppx:task name="t" interval="PT0.02S" priority="1"/>
    </ppx:resource></ppx:configuration></ppx:configurations></ppx:instances>
</ppx:project>
"""


def test_a_chart_of_another_program_with_prefixes_references_and_jumps(tmp_path):
    path = tmp_path / "tub.xml"
    path.write_text(FOREIGN)
    project = read_file(path).project
    q = project.sequences[0]
    assert (project.name, project.period_ms, q.step("Rest").comment) == ("Tub", 20, "waits for the button")
    assert [(t.sources, t.targets, t.condition, t.priority, t.name) for t in q.transitions] == [
        (("Rest",), ("Rest",), "Scaled(Level) > 7", None, ""), (("Rest",), ("Fill", "Stir"), "Go AND Mode = 3", None, "Begin"),
        (("Fill", "Stir"), ("Rest",), "Late.Q", 1, ""),
    ], "the outputs of a divergence say the order"  # fmt: skip
    assert [(a.qualifier, a.target, a.time) for a in q.step("Fill").actions] == [
        ("L", "Valve", "T#2s"), ("N", "Watch", ""), ("P1", "Fill_Does3", ""),
    ]  # fmt: skip
    assert {b.name: b.text for b in q.bodies} == {
        "Watch": "Late(IN := Valve,\n  PT := T#5s);",
        "Fill_Does3": "Mode := Mode + 1;",
    }
    assert (
        project.signal("Go").comment == "the button"
        and project.signal("Mode").initial == 3
        and link_problems(project) == []
    )
    again = write_xml(project)
    assert "green" in again and 'handleUnknown="preserve"' in again
    assert project_of(again.encode()) == project


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('<ppx:step localId="7" name="Stir">', '<ppx:macroStep localId="70" name="Mix"/><ppx:step localId="7" name="Stir">',
         "pou Tub, macro step Mix: macro steps are not read"),
        ("<ppx:ST><h:p>Late(IN", "<ppx:FBD/><ppx:ST><h:p>Late(IN", "pou Tub, action Watch: it is written in FBD"),
        ("<ppx:SFC>", "<ppx:LD/><ppx:SFC>", "pou Tub: it is written in LD"),
        ("<ppx:SFC>", "<ppx:ST><h:p>;</h:p></ppx:ST><ppx:SFC>", "pou Tub: its body is written in ST and SFC"),
        ("<ppx:body><ppx:SFC>", "<ppx:body><ppx:ST><h:p>;</h:p></ppx:ST></ppx:body><ppx:body><ppx:SFC>", "pou Tub: its body stands on 2 worksheets"),
        ('refLocalId="10"', 'refLocalId="9"', "pou Tub, transition 11: its condition is drawn"),
        ('targetName="Rest"', 'targetName="Rust"', "pou Tub, transition 4: there is no step Rust in Tub"),
        ("Go AND Mode = 3;", "Go AND ;", "pou Tub, transition 3"),
        ('<ppx:connection refLocalId="3"/>', '<ppx:connection refLocalId="33"/>', "it is joined to 33, which is not there"),
        ("Mode := Mode + 1;", "Mode = Mode + 1;", "pou Tub, step Fill, action 3"),
        ('localId="7"', 'localId="6"', "the localId 6 stands twice"),
        ('name="Level"><ppx:type><ppx:INT/>', 'name="Level"><ppx:type><ppx:string/>', "pou Tub, variable Level: type STRING"),
        ('name="Level"><ppx:type><ppx:INT/>', 'name="Level"><ppx:type><ppx:pointer/>', "pointers are not read"),
        ("<ppx:localVars>", '<ppx:inOutVars><ppx:variable name="X"><ppx:type><ppx:BOOL/></ppx:type></ppx:variable></ppx:inOutVars><ppx:localVars>',
         "VAR_IN_OUT"),
    ],
)  # fmt: skip
def test_what_is_not_read_is_told_with_its_place_in_the_xml(old, new, told, tmp_path):
    assert old in FOREIGN
    path = tmp_path / "tub.xml"
    path.write_text(FOREIGN.replace(old, new, 1))
    with pytest.raises(FormatError) as error:
        read_file(path)
    assert told in str(error.value) and "tub.xml" in str(error.value)


def bomb() -> str:
    """A text of a thousand bytes that would be a billion."""
    entities = [f'<!ENTITY a{n} "{(f"&a{n - 1};" if n else "xxxx") * 20}">' for n in range(9)]
    return f"<!DOCTYPE x [{''.join(entities)}]><project>&a8;</project>"


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (bomb().encode(), "a DOCTYPE or an entity"),
        (b'<!DOCTYPE p SYSTEM "file:///etc/passwd"><project/>', "a DOCTYPE"),
        ((f'<project xmlns="{SPACE}">' + "<a>" * 10_000 + "</a>" * 10_000 + "</project>").encode(), "nest deeper than"),
        (b"<project><unfinished>", "no whole XML"),
        (b"\xff\xfe<", "no whole XML"),
        (b"<other/>", "no PLCopen project: its root is other"),
        (f'<project xmlns="{SPACE}"/>'.encode(), "there is no program in this file"),
        (b"", "no whole XML"),
    ],
)
def test_what_would_only_do_harm_is_refused_at_once(data, told):
    with pytest.raises(FormatError, match=re.escape(told)):
        project_of(data)


def test_a_program_with_a_state_comes_in_as_a_chart_and_is_run_beside_its_text(tmp_path):
    body = "CASE State OF 0: IF Go THEN State := 10; END_IF; 10: IF NOT Go THEN State := 0; END_IF; END_CASE; Valve := State = 10;"
    start, end = FOREIGN.index("<ppx:actions>"), FOREIGN.index("<ppx:addData>")
    text = FOREIGN[:start] + f"<ppx:body><ppx:ST><h:p>{body}</h:p></ppx:ST></ppx:body>" + FOREIGN[end:]
    path = tmp_path / "tub.xml"
    path.write_text(text.replace('name="Mode"', 'name="State"').replace('value="3"', 'value="0"'))
    found = read_file(path)
    assert [s.number for s in found.project.sequences[0].steps] == [0, 10] and "runs beside the text" in found.shown
    assert (
        any(n.text.startswith("pou Tub: ") for n in found.notes)
        and found.project.sequences[0].steps[1].actions[0].target == "Valve"
    )


def test_what_it_cannot_say_stands_in_data_of_our_own():
    data = f'<ns0:data xmlns:ns0="{SPACE}" name="u" handleUnknown="discard"><ns0:x /></ns0:data>'
    step = parse_iec("PROGRAM P INITIAL_STEP S: END_STEP END_PROGRAM").sequences[0].steps[0]
    made = Project("A & B < C", foreign=(("project", data),), sequences=(Sequence("Q", "S", (step,)),))
    assert project_of(write_xml(made).encode()) == made
