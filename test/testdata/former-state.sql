SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SELECT pg_catalog.set_config('search_path', '', false);
SET check_function_bodies = false;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;
CREATE SCHEMA rillmark;
SET default_tablespace = '';
SET default_table_access_method = heap;
CREATE TABLE rillmark.avro_schema (
    fingerprint bigint NOT NULL,
    schema bigint NOT NULL
);
CREATE TABLE rillmark.dead_letter (
    id bigint NOT NULL,
    outlet_id bigint NOT NULL,
    event_offset bigint NOT NULL,
    row_name bytea NOT NULL,
    state text NOT NULL,
    retrying boolean DEFAULT false NOT NULL,
    event_id text NOT NULL,
    table_name text NOT NULL,
    operation text NOT NULL,
    error text NOT NULL,
    attempts integer NOT NULL,
    event bytea NOT NULL,
    first_at timestamp with time zone DEFAULT now() NOT NULL,
    last_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT dead_letter_state_check CHECK ((state = ANY (ARRAY['dead'::text, 'behind'::text])))
);
ALTER TABLE rillmark.dead_letter ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME rillmark.dead_letter_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE rillmark.destination (
    id bigint NOT NULL,
    name text NOT NULL,
    definition jsonb NOT NULL,
    version bigint DEFAULT 1 NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    updated_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE rillmark.destination ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME rillmark.destination_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE rillmark.journal_1_1_00000000000000000001 (
    first_offset bigint NOT NULL,
    last_offset bigint NOT NULL,
    first_commit timestamp with time zone NOT NULL,
    last_commit timestamp with time zone NOT NULL,
    tables text NOT NULL,
    payload_bytes bigint NOT NULL,
    data bytea NOT NULL,
    CONSTRAINT journal_1_1_00000000000000000001_check CHECK ((first_offset <= last_offset))
);
ALTER TABLE ONLY rillmark.journal_1_1_00000000000000000001 ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE rillmark.journal_count (
    source_id bigint NOT NULL,
    table_name text NOT NULL,
    operation text NOT NULL,
    events bigint NOT NULL
)
WITH (fillfactor='50');
CREATE TABLE rillmark.journal_counted (
    source_id bigint NOT NULL,
    upto bigint NOT NULL
);
CREATE TABLE rillmark.journal_cut (
    source_id bigint NOT NULL,
    generation integer NOT NULL,
    first_offset bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    reason text NOT NULL
);
CREATE TABLE rillmark.journal_head (
    source_id bigint NOT NULL,
    generation integer DEFAULT 1 NOT NULL,
    epoch bigint DEFAULT 0 NOT NULL,
    first_offset bigint DEFAULT 1 NOT NULL,
    next_offset bigint DEFAULT 1 NOT NULL,
    checkpoint bytea,
    moved_at timestamp with time zone DEFAULT now() NOT NULL
)
WITH (fillfactor='20');
CREATE TABLE rillmark.journal_segment (
    source_id bigint NOT NULL,
    generation integer NOT NULL,
    first_offset bigint NOT NULL,
    relation text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.lease (
    outlet_id bigint NOT NULL,
    first_offset bigint NOT NULL,
    last_offset bigint NOT NULL,
    token text NOT NULL,
    reader text NOT NULL,
    until timestamp with time zone NOT NULL,
    done boolean DEFAULT false NOT NULL
);
CREATE TABLE rillmark.mark (
    source_id bigint NOT NULL,
    name text NOT NULL,
    at_offset bigint NOT NULL,
    reason text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.migration (
    number integer NOT NULL,
    name text NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.outlet (
    id bigint NOT NULL,
    name text NOT NULL,
    source_id bigint NOT NULL,
    destination_id bigint,
    definition jsonb NOT NULL,
    version bigint DEFAULT 1 NOT NULL,
    running boolean DEFAULT true NOT NULL,
    reason text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    updated_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.outlet_history (
    outlet_id bigint NOT NULL,
    points jsonb NOT NULL,
    updated_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE rillmark.outlet ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME rillmark.outlet_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE rillmark.outlet_lost (
    outlet_id bigint NOT NULL,
    first_offset bigint NOT NULL,
    last_offset bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.outlet_offset (
    outlet_id bigint NOT NULL,
    committed bigint NOT NULL,
    run integer DEFAULT 1 NOT NULL,
    delivered bigint DEFAULT 0 NOT NULL,
    committed_at timestamp with time zone DEFAULT now() NOT NULL,
    until bigint
)
WITH (fillfactor='50');
CREATE TABLE rillmark.outlet_schema (
    outlet_id bigint NOT NULL,
    fingerprint bigint NOT NULL,
    first_seen timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.run_log (
    id bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    level text NOT NULL,
    subject text NOT NULL,
    event text NOT NULL,
    message text NOT NULL
);
ALTER TABLE rillmark.run_log ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME rillmark.run_log_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE rillmark.schema_version (
    fingerprint bigint NOT NULL,
    table_name text NOT NULL,
    definition jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.source (
    id bigint NOT NULL,
    name text NOT NULL,
    definition jsonb NOT NULL,
    version bigint DEFAULT 1 NOT NULL,
    running boolean DEFAULT false NOT NULL,
    reason text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    updated_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.source_generation (
    name text NOT NULL,
    generation integer NOT NULL
);
ALTER TABLE rillmark.source ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME rillmark.source_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE rillmark.source_schema (
    source_id bigint NOT NULL,
    fingerprint bigint NOT NULL,
    first_seen timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE rillmark.source_table (
    source_id bigint NOT NULL,
    name text NOT NULL,
    state text NOT NULL,
    note text DEFAULT ''::text NOT NULL,
    fingerprint bigint,
    load jsonb,
    rows_done bigint DEFAULT 0 NOT NULL,
    rows_estimate bigint DEFAULT 0 NOT NULL,
    updated_at timestamp with time zone DEFAULT now() NOT NULL,
    rule text DEFAULT ''::text NOT NULL,
    members text[],
    published text DEFAULT ''::text NOT NULL
);
INSERT INTO rillmark.destination OVERRIDING SYSTEM VALUE VALUES (1, 'archive', '{"file": {"directory": "archive"}, "kind": "file"}', 1, '2026-11-25 12:27:10.633046+00', '2026-11-25 12:27:10.633046+00');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (1, 4, '2026-11-25 12:27:10.84718+00', '2026-11-25 12:27:10.847773+00', 'public.Late Loans
public.loans', 965, '\x0101a6c9752628b52ffd4000c502a50d00c2d8533b506b1a00f0ff3ff12840ea011096310349b70d81f76d370925ffd7f2bd7c6bbe525ca4ebdecfde47864f1b197777d8bcf016794b74d96774cb9601cd83e3b490384e0b19af8d568e1b8f5edbcfa517e3c1aed753af7df05d3b2935add42b63adb4235f267e52aa40cd6bade4805f8490a2bc0a3521411a592a6a422900c0c199f08001220b18745c708c285011c2434489204ed33c2490ccd45e89a1f20dc28cdd671617824aec2d5391d14cf63b43fb00a597f92e069eced06e9593ce9699b86be8c59b4ef82a7785d28330e337098afbec956026df2ed5d2e6bdbb621afd766aefaed7e3631ab84fbe3218a7b7df5da1f4faedf0c15469f58cd8dd95d7623dc69de3f6f2564abd7df234aa582c0924a0ca446481a0bb37afc4a45abcd5318e060215368868044420935fa478b41f058269a19461031c0c1c1124120509d5a3897400712143c7070b102582384d2400c8480980f0e488ad35660c2c302c5a422a6c5d41f8016c0bd2eb4d10b6f1cac05fa1a0b992381786aa5570850d00b904825e8be36d3708d8ad7c2da75acb660627f85af4c256169011b3253f76646f0aae81b1bf16bbcc0ac53b8d5c08ed8cd1');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (5, 5, '2026-11-25 12:27:10.849622+00', '2026-11-25 12:27:10.849622+00', 'public.Late Loans', 51, '\x01007ba85d19000203373338ace99da39ec6b00600016687946208847ea102117075626c69632e4c617465204c6f616e7303070100f0b09619');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (6, 26, '2026-11-25 12:27:10.874276+00', '2026-11-25 12:27:10.874276+00', 'public.loans', 1488, '\x0102afb4dc24d00bd8000203373431c8eaa0a39ec6b00600015d1df87e6b9d4a3d060c7075626c69632e6c6f616e7303010400a0b79619033107616c646572090116d020312006312e35301d323032362d30312d30325430333a30343a30352e3637383930315a127b2261223a205b312c206e756c6c5d7d014a080003322e4700003215003100331500040033150031003415000400341500310035150004003515003100361500040036150031003715000400371500310038150004003815003100391500040039150030080431304980000a09000030e64900003115000500311500320032150005003215003200331500050033150032003415000500341500320035150005003515003200361500050036150032003715000500371500320038150005003815003200391500050039150031003232da02003215002d0c07010000');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (27, 27, '2026-11-25 12:27:11.192206+00', '2026-11-25 12:27:11.192206+00', '', 74, '\x010081ee5e550002033734339cd2c7a39ec6b0060001000000000000000000000309110090bb9619277b22636f6e74656e74223a22726561636865642d32222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (28, 35, '2026-11-25 12:27:11.210704+00', '2026-11-25 12:27:11.213584+00', 'public.loans
public.Late Loans
', 1072, '\x0101ee53424a28b52ffd6030030d0b00d2d2453a5041dc00f323ad0268983068a910aa34719c13d248cc64c600a86b8be72a929243938b0990cc6144999949080770d449c0e4e52c0263c40e5912a2f879f417b508da6cdde1444bc42e5943e0ab3b518b5fa7bfcec3319410295194099c48242a2ba42aad4f373b1fe3ecfbee0dfffccf32a71a93d8f79565dddbebfea78eb395f9b13cf7d434cf2da55d7008293d2214f474d7cb58fabb190aa5319218d82c2676008a8a292ba4acb55632e79c0f29b0aebf1e9265594629a5100a982a0822106938eed359967fb0b47863e8c0e13db39562a66bd235cc1b2ebfbc5fe8e557c527e62b0bb3baeb71938ecedc956010e18263c05441e8e9aec761f086db3e1c834a8101236254a0a2794c55a9236303000192941552531d007811cd0ec480dcf18a8c034e060e11380f1c03970c9c070e263885c48e31ea3a00ef8ea085211a4de0e6e03cc0b1805300770012039c04ceeb30ce60c4b9221c838b374401');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (36, 41, '2026-11-25 12:27:11.234847+00', '2026-11-25 12:27:11.234847+00', 'public.loans', 898, '\x01018625e1ab28b52ffd40008202e50600040a000203373438beeccca39ec6b00600015d1df87e6b9d4a3d060c7075626c69632e6c6f616e7303030600d0da9619033307616c6465720a6c6f616e2033207806312e35301d323032362d30312d30325430333a30343a30352e3637383930315a127b2261223a205b312c206e756c6c5d7d033307616c6465720b030600d0030336363636393939390431323132200c03030600d0030431353535350738383838180002a780e3064e064ec075042703870cce4bb1e3908403a00f0945009cc309dc0048073826700ae02e40628013c17921c6598e38a01b6f3003');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (42, 43, '2026-11-25 12:27:11.236454+00', '2026-11-25 12:27:11.237224+00', 'public.Late Loans
', 189, '\x0101fb3ed65f28b52ffd0000e90500000203373439cc85cda39ec6b00600016687946208847ea102117075626c69632e4c617465204c6f616e730302050090f19619033142383434663564366535663564333164343864633036313166373066663734643266306334336536303939313135316362666166306463633135386236313736370203373530d091cda39ec6b00600010000000000000000000003091101f003277b22636f6e74656e74223a22726561636865642d34222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (44, 49, '2026-11-25 12:27:11.255019+00', '2026-11-25 12:27:11.255019+00', 'public.loans', 910, '\x0101f4a479f328b52ffd40008e022d0700a40a000203373531d6a7cfa39ec6b00600015d1df87e6b9d4a3d060c7075626c69632e6c6f616e7303030600e0f59619033307616c6465720b6c6f616e203320787806312e35301d323032362d30312d30325430333a30343a30352e3637383930315a127b2261223a205b312c206e756c6c5d7d033307616c6465720c6c6f616e20332078030600d00303363636363939393980040431323132200d030600e0030431353535350738383838170003a780e3084e064ec0750527038710ce6bb183a3b64e00bc246821708e27707a7032c0c9c07980630292007793d8c924c6ed8190334801');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (50, 51, '2026-11-25 12:27:11.258018+00', '2026-11-25 12:27:11.258898+00', 'public.Late Loans
', 189, '\x01012867ea7328b52ffd0000e90500000203373532c4d6cfa39ec6b00600016687946208847ea102117075626c69632e4c617465204c6f616e7303020500808d9719033242383434663564366535663564333164343864633036313166373066663734643266306334336536303939313135316362666166306463633135386236313736370203373533a4e4cfa39ec6b00600010000000000000000000003091101f003277b22636f6e74656e74223a22726561636865642d35222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (52, 58, '2026-11-25 12:27:11.277107+00', '2026-11-25 12:27:11.277932+00', 'public.loans
public.Late Loans', 1037, '\x010172e5b61528b52ffd600d037d0900b24f3a33606d1a444a41683330048723d0990f1d6b542bbef1d9bb163d37498cd1cf5516cb9499f253a6ff1d4ed68b96f4ceb275cb6e3b534e97167dbf1777b6d9bafeeeb5b6bc60bc9d1f8e33e79ed95df6c5346287f8f35f127f8e9126c0468d280053fb64d6c3719784e5104c1e228b004be322638cfccf36514a69e5ffdfa96632e09e3fa76aad554a6991ad91485513a0e86018287307dee036188b992860f0ae744acdf726f606f6c2eb8c7746be7e977e8d57a150c84197590f6689b830662bb0196c648ca4aab54f663d98e63a601608c2522128703c884e2e1d8a548184747c885494c49f6d92021c002023ce823082f3c0c10a4e0177e06206a780e30a27c3d8f1d45dc720b212342b380714b811900e708ce014c0dd80c4801352cc3910ec896193c40924e0cdc81bce');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (59, 59, '2026-11-25 12:27:11.281938+00', '2026-11-25 12:27:11.281938+00', '', 74, '\x01003f3159c3000203373536a4ccd2a39ec6b0060001000000000000000000000309110090ad9719277b22636f6e74656e74223a22726561636865642d36222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (60, 66, '2026-11-25 12:27:11.299807+00', '2026-11-25 12:27:11.300389+00', 'public.loans
public.Late Loans', 1049, '\x0101fc6cccc828b52ffd6019039d0900920f3a33606d1a44ca04a842c1089886b06e1ecc186a15d9fbd08db3cb4a8931fab9ca62993253fedce97f8793f5a25d88d4c16a93dd76324a8fd67cb7f636aed8b2feee9476bc2a681bbf0b25c62db17b6c7b27bc5eddc77fc5fb18c299005b45840230b51056411e7749540fc1b431aa08b02e2c7049c87cd9a639e7b4fcff7b65c03d7f5ea194524cbcc4d64c24aa61283e398b3077e00daea3a99a8902066f3a65e47c776077aa5e78bdf1dec4d72fd3cf712acbb2cc550eaba07c89b86eae96aa1960749848546b21ac8232c73a644b0421402128643c8c4e321f8a44798068708c907cc8976d92021e002023d482b082f3c0c10c4e0177e06207a780e30c27d3d8e16e59a701e7251476708e287033201de058c129c0dd2de604c44bc20d3ce1009083cba018364a9c48221e9dbce10c');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (67, 67, '2026-11-25 12:27:11.306523+00', '2026-11-25 12:27:11.306523+00', '', 74, '\x01009487d3f4000203373539b6ccd5a39ec6b00600010000000000000000000003091100e0c99719277b22636f6e74656e74223a22726561636865642d37222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (68, 73, '2026-11-25 12:27:11.329648+00', '2026-11-25 12:27:11.329648+00', 'public.loans', 1521, '\x0101cf08e27428b52ffd60f1046d0e00c25b5c3b50699b00ff0c04c9004526f386bbb2ad2082b848095170c89489647ec9814944beb7e83ef656858a9388849ac809c4f73e5dd7a8c745682012b4035996651944790328aff154380c17b9a852994c5ee3a9709e0683616399136ba8bd07083e5e5340c17315ca447a481c8c3808710922e7f09c8314b9e880933c9e03921ed491ce00952f333648afe1384f83b1613b63056ff9ca2ac1f56d63b118950db85e6f1b4b3539639b5a88a9a985a8d4a2b8dc9402624b5e2873a5047459f15ab6e4bdf1335a92e20b252b5b5873c5973663f5667c3354c73ab5cd839f60066f6c67ace0794e714eacdf2212bcbd727a7b650cdf9687e789d5b7df9618391d9eaf89fbf68b5cd091cec3b315fb9a0778db163629f5f6c3f39ce27dfb8cb05c31d7d2ebf0dc12d37c0d7c537965cb8a2f6f87485c4593448250de449a2091c3df96f5aa8c69595d03e0c2c0830a160e0107c376a4f341c93961978006ea8204761041010183e3b0b88010a1c2040b4f9a301e272100a05987816060d80327061c02480c1c1290ee74c271b655884a4fab7674b305ed08183334108c1cb1b5c68c810586454b808a3d86d81a609d3d1ae751b38d5706eed7438288a40408310e5c184786b0480d35f3a31c8e02');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (74, 74, '2026-11-25 12:27:11.330358+00', '2026-11-25 12:27:11.330358+00', 'public.loans', 98, '\x0100ccdbedd0000203373632ecc0d8a39ec6b006000143b6718365b2fe63070c7075626c69632e6c6f616e7303020500c0e49719123930303731393932353437343039393305656c6d0cc3bc6ec3af0a636f6465054e614e0b2d696e66696e697479066e756c6c01');
INSERT INTO rillmark.journal_1_1_00000000000000000001 VALUES (75, 76, '2026-11-25 12:27:11.344575+00', '2026-11-25 12:27:11.346394+00', 'public.Late Loans
', 165, '\x01013031972928b52ffd0000290500000203373633fe9edaa39ec6b00600016687946208847ea102117075626c69632e4c617465204c6f616e7303051100e09598192a7b2263617363616465223a66616c73652c22726573746172745f6964656e74697479223a66616c73657d0203373634b4bbdaa39ec6b00600010000000000000000000003091101c007277b22636f6e74656e74223a22726561636865642d38222c22707265666978223a2274657374227d');
INSERT INTO rillmark.journal_count VALUES (1, '', 'message', 7);
INSERT INTO rillmark.journal_count VALUES (1, 'public.Late Loans', 'insert', 5);
INSERT INTO rillmark.journal_count VALUES (1, 'public.Late Loans', 'truncate', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.Late Loans', 'schema', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.Late Loans', 'loaded', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.Late Loans', 'void', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'existing', 20);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'insert', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'update', 30);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'delete', 5);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'schema', 2);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'loaded', 1);
INSERT INTO rillmark.journal_count VALUES (1, 'public.loans', 'void', 1);
INSERT INTO rillmark.journal_counted VALUES (1, 77);
INSERT INTO rillmark.journal_head VALUES (1, 1, 1, 1, 77, '\x7b2273797374656d223a2237373132303834363236333331373736333739222c2274696d656c696e65223a312c22706f736974696f6e223a7b22636f6d6d6974223a22302f31393330383630222c226b696e64223a312c22726f77223a2246464646464646462f4646464646464646222c226f7264696e616c223a307d2c22786964223a3736362c22636f6d6d69747465645f6174223a3834383932343833313633303830342c226e6f6e6365223a22653838613561306532643165633232366431343566653265222c226e6f6e63655f636f6d6d6974223a22302f31393330383630227d', '2026-11-25 12:27:11.631861+00');
INSERT INTO rillmark.journal_segment VALUES (1, 1, 1, 'journal_1_1_00000000000000000001', '2026-11-25 12:27:10.687376+00');
INSERT INTO rillmark.lease VALUES (3, 1, 5, '612a15b59c0a8c7209833d1e12aff64f', 'one', '2026-11-25 13:27:11.629962+00', false);
INSERT INTO rillmark.mark VALUES (1, 'before-the-move', 77, '', '2026-11-25 12:27:11.653113+00');
INSERT INTO rillmark.migration VALUES (1, '0001_begin.sql', '2026-11-25 12:27:10.547155+00');
INSERT INTO rillmark.migration VALUES (2, '0002_rules.sql', '2026-11-25 12:27:10.580183+00');
INSERT INTO rillmark.migration VALUES (3, '0003_delivery.sql', '2026-11-25 12:27:10.58386+00');
INSERT INTO rillmark.migration VALUES (4, '0004_history.sql', '2026-11-25 12:27:10.598863+00');
INSERT INTO rillmark.migration VALUES (5, '0005_published.sql', '2026-11-25 12:27:10.604173+00');
INSERT INTO rillmark.outlet OVERRIDING SYSTEM VALUE VALUES (1, 'archive', 1, 1, '{"file": {"name": "{outlet}.{run}.{first}", "compression": "none", "rotate_bytes": 67108864, "rotate_every": "1h"}, "from": "beginning", "nulls": "keep", "format": "cloudevents", "source": "circulation", "changes": "all", "columns": "all", "deletes": "event", "refused": {"most": 10000, "later": "wait"}, "updates": "one", "integers": "number", "destination": "archive"}', 1, true, '', '2026-11-25 12:27:10.64153+00', '2026-11-25 12:27:10.64153+00');
INSERT INTO rillmark.outlet OVERRIDING SYSTEM VALUE VALUES (2, 'desk', 1, NULL, '{"from": "beginning", "nulls": "keep", "format": "cloudevents", "source": "circulation", "changes": "all", "columns": "all", "deletes": "event", "refused": {"most": 10000, "later": "wait"}, "updates": "one", "integers": "number"}', 1, true, '', '2026-11-25 12:27:10.6527+00', '2026-11-25 12:27:10.6527+00');
INSERT INTO rillmark.outlet OVERRIDING SYSTEM VALUE VALUES (3, 'shared', 1, NULL, '{"from": "beginning", "nulls": "keep", "format": "cloudevents", "source": "circulation", "changes": "all", "columns": "all", "deletes": "event", "refused": {"most": 10000, "later": "wait"}, "updates": "one", "integers": "number"}', 1, true, '', '2026-11-25 12:27:10.656054+00', '2026-11-25 12:27:10.656054+00');
INSERT INTO rillmark.outlet_history VALUES (1, '[{"at": "2026-11-25T12:27:10Z", "read": 76, "behind": 0, "delivered": 76, "delay_seconds": 0.005758}]', '2026-11-25 12:27:11.69429+00');
INSERT INTO rillmark.outlet_offset VALUES (3, 0, 1, 0, '2026-11-25 12:27:10.656054+00', NULL);
INSERT INTO rillmark.outlet_offset VALUES (1, 76, 1, 76, '2026-11-25 12:27:11.578292+00', NULL);
INSERT INTO rillmark.outlet_offset VALUES (2, 3, 1, 3, '2026-11-25 12:27:11.62694+00', NULL);
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (1, '2026-11-25 12:27:10.607432+00', 'info', 'service', 'started', 'the service has started on 127.0.0.1:40763');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (2, '2026-11-25 12:27:10.629606+00', 'info', 'source/circulation', 'added', 'source added');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (3, '2026-11-25 12:27:10.634071+00', 'info', 'destination/archive', 'added', 'destination added');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (4, '2026-11-25 12:27:10.64608+00', 'info', 'outlet/archive', 'added', 'outlet added, from offset 1 on');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (5, '2026-11-25 12:27:10.653455+00', 'info', 'outlet/desk', 'added', 'outlet added, from offset 1 on');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (6, '2026-11-25 12:27:10.656756+00', 'info', 'outlet/shared', 'added', 'outlet added, from offset 1 on');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (7, '2026-11-25 12:27:10.660095+00', 'info', 'source/circulation', 'resumed', 'resumed');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (8, '2026-11-25 12:27:10.780887+00', 'info', 'source/circulation', 'slot-made', 'replication slot rillmark_circulation made at 0/192CA48');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (9, '2026-11-25 12:27:10.78202+00', 'info', 'source/circulation', 'connected', 'following the log of former from 0/192CA48');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (10, '2026-11-25 12:27:10.848453+00', 'info', 'source/circulation', 'load-began', 'loading public.Late Loans by range, about 0 rows');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (11, '2026-11-25 12:27:10.848513+00', 'info', 'source/circulation', 'load-began', 'loading public.loans by range, about 470 rows');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (12, '2026-11-25 12:27:10.855274+00', 'info', 'source/circulation', 'load-done', 'public.Late Loans: 0 rows loaded');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (13, '2026-11-25 12:27:10.875697+00', 'info', 'source/circulation', 'load-done', 'public.loans: 20 rows loaded');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (14, '2026-11-25 12:27:11.655989+00', 'info', 'source/circulation', 'mark', 'mark before-the-move set at offset 77');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (15, '2026-11-25 12:27:11.658881+00', 'info', 'source/circulation', 'paused', 'paused');
INSERT INTO rillmark.run_log OVERRIDING SYSTEM VALUE VALUES (16, '2026-11-25 12:27:11.69335+00', 'info', 'service', 'stopping', 'the service stops: asked to by a signal');
INSERT INTO rillmark.schema_version VALUES (7388036862495194785, 'public.Late Loans', '{"table": "public.Late Loans", "engine": "postgresql", "columns": [{"key": 1, "bits": 32, "name": "id", "rule": "integer", "type": "integer", "nullable": false}, {"name": "secret", "rule": "text", "type": "text (hashed)", "nullable": true}]}', '2026-11-25 12:27:10.850778+00');
INSERT INTO rillmark.schema_version VALUES (6709792241706945085, 'public.loans', '{"table": "public.loans", "engine": "postgresql", "columns": [{"key": 1, "bits": 64, "name": "loan_id", "rule": "integer", "type": "bigint", "nullable": false}, {"name": "branch", "rule": "text", "type": "text", "nullable": true}, {"name": "note", "rule": "text", "type": "text", "nullable": true}, {"name": "fee", "rule": "decimal", "type": "numeric", "nullable": true}, {"name": "at", "rule": "timestamptz", "type": "timestamp with time zone", "nullable": true}, {"name": "more", "rule": "json", "type": "jsonb", "nullable": true}]}', '2026-11-25 12:27:10.850778+00');
INSERT INTO rillmark.schema_version VALUES (4879212055463394915, 'public.loans', '{"table": "public.loans", "engine": "postgresql", "columns": [{"key": 1, "bits": 64, "name": "loan_id", "rule": "integer", "type": "bigint", "nullable": false}, {"name": "branch", "rule": "text", "type": "text", "nullable": true}, {"name": "note", "rule": "text", "type": "text", "nullable": true}, {"name": "fee", "rule": "decimal", "type": "numeric", "nullable": true}, {"name": "at", "rule": "timestamptz", "type": "timestamp with time zone", "nullable": true}, {"name": "more", "rule": "json", "type": "jsonb", "nullable": true}, {"name": "shelf", "rule": "text", "type": "text", "nullable": true}]}', '2026-11-25 12:27:11.338161+00');
INSERT INTO rillmark.source OVERRIDING SYSTEM VALUE VALUES (1, 'circulation', '{"mode": "load-and-follow", "engine": "postgresql", "tables": [{"image": "both", "match": "public.*", "columns": [{"match": "secret", "treat": "hash"}], "load_by": "range", "partitions": "each", "after_rewrite": "stale"}], "hash_key": "sealed:1:nSF0RYNCZ+zvTRxLP1dzLLrMBSKUrR6JWQvys84YqpX6Wb0=", "connection": {"tls": "prefer", "host": "127.0.0.1", "port": 45065, "user": "former", "database": "former", "password": "${env:RILLMARK_SECRET_SOURCE}"}, "largest_value": 16777216, "load_sessions": 2}', 1, false, '', '2026-11-25 12:27:10.627446+00', '2026-11-25 12:27:11.657073+00');
INSERT INTO rillmark.source_generation VALUES ('circulation', 1);
INSERT INTO rillmark.source_schema VALUES (1, 7388036862495194785, '2026-11-25 12:27:10.850778+00');
INSERT INTO rillmark.source_schema VALUES (1, 6709792241706945085, '2026-11-25 12:27:10.850778+00');
INSERT INTO rillmark.source_schema VALUES (1, 4879212055463394915, '2026-11-25 12:27:11.338161+00');
INSERT INTO rillmark.source_table VALUES (1, 'public.Late Loans', 'following', '', 7388036862495194785, NULL, 0, 0, '2026-11-25 12:27:10.89324+00', '6435aa39ec2edbc3', NULL, 'public.Late Loans=16400.731.16402');
INSERT INTO rillmark.source_table VALUES (1, 'public.loans', 'following', '', 4879212055463394915, NULL, 20, 20, '2026-11-25 12:27:11.338161+00', '6435aa39ec2edbc3', NULL, 'public.loans=16400.731.16403');
SELECT pg_catalog.setval('rillmark.dead_letter_id_seq', 1, false);
SELECT pg_catalog.setval('rillmark.destination_id_seq', 1, true);
SELECT pg_catalog.setval('rillmark.outlet_id_seq', 3, true);
SELECT pg_catalog.setval('rillmark.run_log_id_seq', 16, true);
SELECT pg_catalog.setval('rillmark.source_id_seq', 1, true);
ALTER TABLE ONLY rillmark.avro_schema
    ADD CONSTRAINT avro_schema_pkey PRIMARY KEY (fingerprint);
ALTER TABLE ONLY rillmark.dead_letter
    ADD CONSTRAINT dead_letter_outlet_id_event_offset_key UNIQUE (outlet_id, event_offset);
ALTER TABLE ONLY rillmark.dead_letter
    ADD CONSTRAINT dead_letter_pkey PRIMARY KEY (id);
ALTER TABLE ONLY rillmark.destination
    ADD CONSTRAINT destination_name_key UNIQUE (name);
ALTER TABLE ONLY rillmark.destination
    ADD CONSTRAINT destination_pkey PRIMARY KEY (id);
ALTER TABLE ONLY rillmark.journal_1_1_00000000000000000001
    ADD CONSTRAINT journal_1_1_00000000000000000001_pkey PRIMARY KEY (last_offset);
ALTER TABLE ONLY rillmark.journal_count
    ADD CONSTRAINT journal_count_pkey PRIMARY KEY (source_id, table_name, operation);
ALTER TABLE ONLY rillmark.journal_counted
    ADD CONSTRAINT journal_counted_pkey PRIMARY KEY (source_id);
ALTER TABLE ONLY rillmark.journal_cut
    ADD CONSTRAINT journal_cut_pkey PRIMARY KEY (source_id, generation);
ALTER TABLE ONLY rillmark.journal_head
    ADD CONSTRAINT journal_head_pkey PRIMARY KEY (source_id);
ALTER TABLE ONLY rillmark.journal_segment
    ADD CONSTRAINT journal_segment_pkey PRIMARY KEY (source_id, generation, first_offset);
ALTER TABLE ONLY rillmark.lease
    ADD CONSTRAINT lease_pkey PRIMARY KEY (outlet_id, first_offset);
ALTER TABLE ONLY rillmark.lease
    ADD CONSTRAINT lease_token_key UNIQUE (token);
ALTER TABLE ONLY rillmark.mark
    ADD CONSTRAINT mark_pkey PRIMARY KEY (source_id, name);
ALTER TABLE ONLY rillmark.migration
    ADD CONSTRAINT migration_pkey PRIMARY KEY (number);
ALTER TABLE ONLY rillmark.outlet_history
    ADD CONSTRAINT outlet_history_pkey PRIMARY KEY (outlet_id);
ALTER TABLE ONLY rillmark.outlet
    ADD CONSTRAINT outlet_name_key UNIQUE (name);
ALTER TABLE ONLY rillmark.outlet_offset
    ADD CONSTRAINT outlet_offset_pkey PRIMARY KEY (outlet_id);
ALTER TABLE ONLY rillmark.outlet
    ADD CONSTRAINT outlet_pkey PRIMARY KEY (id);
ALTER TABLE ONLY rillmark.outlet_schema
    ADD CONSTRAINT outlet_schema_pkey PRIMARY KEY (outlet_id, fingerprint);
ALTER TABLE ONLY rillmark.run_log
    ADD CONSTRAINT run_log_pkey PRIMARY KEY (id);
ALTER TABLE ONLY rillmark.schema_version
    ADD CONSTRAINT schema_version_pkey PRIMARY KEY (fingerprint);
ALTER TABLE ONLY rillmark.source_generation
    ADD CONSTRAINT source_generation_pkey PRIMARY KEY (name);
ALTER TABLE ONLY rillmark.source
    ADD CONSTRAINT source_name_key UNIQUE (name);
ALTER TABLE ONLY rillmark.source
    ADD CONSTRAINT source_pkey PRIMARY KEY (id);
ALTER TABLE ONLY rillmark.source_schema
    ADD CONSTRAINT source_schema_pkey PRIMARY KEY (source_id, fingerprint);
ALTER TABLE ONLY rillmark.source_table
    ADD CONSTRAINT source_table_pkey PRIMARY KEY (source_id, name);
CREATE INDEX dead_letter_outlet_id_row_name_event_offset_idx ON rillmark.dead_letter USING btree (outlet_id, row_name, event_offset);
CREATE INDEX run_log_at_idx ON rillmark.run_log USING btree (at);
CREATE INDEX run_log_subject_id_idx ON rillmark.run_log USING btree (subject, id);
ALTER TABLE ONLY rillmark.avro_schema
    ADD CONSTRAINT avro_schema_schema_fkey FOREIGN KEY (schema) REFERENCES rillmark.schema_version(fingerprint);
ALTER TABLE ONLY rillmark.dead_letter
    ADD CONSTRAINT dead_letter_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.journal_count
    ADD CONSTRAINT journal_count_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.journal_counted
    ADD CONSTRAINT journal_counted_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.journal_cut
    ADD CONSTRAINT journal_cut_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.journal_head
    ADD CONSTRAINT journal_head_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.journal_segment
    ADD CONSTRAINT journal_segment_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.lease
    ADD CONSTRAINT lease_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.mark
    ADD CONSTRAINT mark_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.outlet
    ADD CONSTRAINT outlet_destination_id_fkey FOREIGN KEY (destination_id) REFERENCES rillmark.destination(id);
ALTER TABLE ONLY rillmark.outlet_history
    ADD CONSTRAINT outlet_history_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.outlet_lost
    ADD CONSTRAINT outlet_lost_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.outlet_offset
    ADD CONSTRAINT outlet_offset_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.outlet_schema
    ADD CONSTRAINT outlet_schema_fingerprint_fkey FOREIGN KEY (fingerprint) REFERENCES rillmark.schema_version(fingerprint);
ALTER TABLE ONLY rillmark.outlet_schema
    ADD CONSTRAINT outlet_schema_outlet_id_fkey FOREIGN KEY (outlet_id) REFERENCES rillmark.outlet(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.outlet
    ADD CONSTRAINT outlet_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id);
ALTER TABLE ONLY rillmark.source_schema
    ADD CONSTRAINT source_schema_fingerprint_fkey FOREIGN KEY (fingerprint) REFERENCES rillmark.schema_version(fingerprint);
ALTER TABLE ONLY rillmark.source_schema
    ADD CONSTRAINT source_schema_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
ALTER TABLE ONLY rillmark.source_table
    ADD CONSTRAINT source_table_source_id_fkey FOREIGN KEY (source_id) REFERENCES rillmark.source(id) ON DELETE CASCADE;
