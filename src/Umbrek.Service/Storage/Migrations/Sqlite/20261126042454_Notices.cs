using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Notices : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Maintenance",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    On = table.Column<string>(type: "TEXT", nullable: true),
                    Starts = table.Column<string>(type: "TEXT", nullable: false),
                    Zone = table.Column<string>(type: "TEXT", nullable: false),
                    Minutes = table.Column<int>(type: "INTEGER", nullable: false),
                    Rule = table.Column<string>(type: "TEXT", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Maintenance", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Maintenance_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Maintenance_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Notices",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    On = table.Column<string>(type: "TEXT", nullable: true),
                    AtLeast = table.Column<int>(type: "INTEGER", nullable: false),
                    About = table.Column<string>(type: "TEXT", nullable: true),
                    Way = table.Column<int>(type: "INTEGER", nullable: false),
                    TeamId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Addresses = table.Column<string>(type: "TEXT", nullable: false),
                    Url = table.Column<string>(type: "TEXT", nullable: true),
                    ProtectedSecret = table.Column<string>(type: "TEXT", nullable: true),
                    AfterSeconds = table.Column<double>(type: "REAL", nullable: false),
                    DigestAt = table.Column<string>(type: "TEXT", nullable: true),
                    Quiet = table.Column<string>(type: "TEXT", nullable: true),
                    Zone = table.Column<string>(type: "TEXT", nullable: false),
                    CriticalAlways = table.Column<bool>(type: "INTEGER", nullable: false),
                    TellsEnd = table.Column<bool>(type: "INTEGER", nullable: false),
                    Off = table.Column<bool>(type: "INTEGER", nullable: false),
                    DigestedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Notices", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Notices_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Notices_Teams_TeamId",
                        column: x => x.TeamId,
                        principalTable: "Teams",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.SetNull);
                });

            migrationBuilder.CreateTable(
                name: "Deliveries",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    NoticeId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Way = table.Column<int>(type: "INTEGER", nullable: false),
                    To = table.Column<string>(type: "TEXT", nullable: false),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    Body = table.Column<string>(type: "TEXT", nullable: false),
                    Thread = table.Column<byte[]>(type: "BLOB", nullable: true),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Attempts = table.Column<int>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    NextAt = table.Column<long>(type: "INTEGER", nullable: false),
                    DoneAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Problem = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Deliveries", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Deliveries_Notices_NoticeId",
                        column: x => x.NoticeId,
                        principalTable: "Notices",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "NoticesTold",
                columns: table => new
                {
                    NoticeId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AlertId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_NoticesTold", x => new { x.NoticeId, x.AlertId });
                    table.ForeignKey(
                        name: "FK_NoticesTold_Alerts_AlertId",
                        column: x => x.AlertId,
                        principalTable: "Alerts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_NoticesTold_Notices_NoticeId",
                        column: x => x.NoticeId,
                        principalTable: "Notices",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "DeliveryAlerts",
                columns: table => new
                {
                    DeliveryId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AlertId = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_DeliveryAlerts", x => new { x.AlertId, x.DeliveryId });
                    table.ForeignKey(
                        name: "FK_DeliveryAlerts_Alerts_AlertId",
                        column: x => x.AlertId,
                        principalTable: "Alerts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_DeliveryAlerts_Deliveries_DeliveryId",
                        column: x => x.DeliveryId,
                        principalTable: "Deliveries",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_DoneAt",
                table: "Deliveries",
                column: "DoneAt");

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_NoticeId",
                table: "Deliveries",
                column: "NoticeId");

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_State_NextAt",
                table: "Deliveries",
                columns: new[] { "State", "NextAt" });

            migrationBuilder.CreateIndex(
                name: "IX_DeliveryAlerts_DeliveryId",
                table: "DeliveryAlerts",
                column: "DeliveryId");

            migrationBuilder.CreateIndex(
                name: "IX_Maintenance_GroupId",
                table: "Maintenance",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Maintenance_HostId",
                table: "Maintenance",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Notices_GroupId",
                table: "Notices",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Notices_TeamId",
                table: "Notices",
                column: "TeamId");

            migrationBuilder.CreateIndex(
                name: "IX_NoticesTold_AlertId",
                table: "NoticesTold",
                column: "AlertId");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "DeliveryAlerts");

            migrationBuilder.DropTable(
                name: "Maintenance");

            migrationBuilder.DropTable(
                name: "NoticesTold");

            migrationBuilder.DropTable(
                name: "Deliveries");

            migrationBuilder.DropTable(
                name: "Notices");
        }
    }
}
